# SPDX-License-Identifier: GPL-3.0-or-later
"""Programmes begun from a template, and saved as one. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from pulizia.errors import PuliziaError
from pulizia.media.names import safe_name
from pulizia.project.clips import Programme
from pulizia.project.model import Recording
from pulizia.project.templates import (
    Placed,
    Template,
    keep_template,
    own_templates,
    programme_of_template,
    programmes_of_each,
    shipped_templates,
    template_of,
)
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.words import plural, tr, translated


class TemplateService:
    """Templates of a job in the window."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    @staticmethod
    def known() -> list[Template]:
        """The user's templates, then those that come with the program, whose words are those of the window."""
        return [*own_templates().values(), *map(_in_words, shipped_templates().values())]

    def begin(self, template: Template, placed: Mapping[str, Sequence[Placed]], name: str = "") -> bool:
        """A programme with recordings, or single channels of them, on the lanes of a template."""
        return self._added(
            template, lambda: [programme_of_template(template, placed, name)], tr("New programme from a template")
        )

    def begin_each(self, template: Template, recordings: Sequence[Recording]) -> bool:
        """A programme of each recording."""
        return self._added(
            template,
            lambda: list(programmes_of_each(template, recordings, lambda r: self._session.channels_of(r.id))),
            tr("New programmes from a template"),
        )

    def _added(self, template: Template, make: Callable[[], list[Programme]], what: str) -> bool:
        try:
            programmes = make()
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
            return False
        if not programmes:
            return False
        document = self._session.document
        with document.history.one_deed(what):
            for programme in programmes:
                document.edit_programme(programme, what)
        self._assembly.choose_programme(programmes[0].id)
        self._session.say(
            plural(
                "1 programme was made from {name}.",
                "{n} programmes were made from {name}.",
                len(programmes),
                name=translated(template.name),
            )
        )
        return True

    def keep(self, name: str) -> None:
        """Save lanes, steps and clocks of the programme as a template of this name."""
        programme = self._assembly.programme
        if programme is None or not name.strip():
            return
        made = template_of(replace(programme, name=name.strip()), self._session.document.project.target_id)
        try:
            keep_template(made, safe_name(name.strip()))
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
            return
        self._session.say(tr("The template {name} was saved.", name=name.strip()))


def _in_words(template: Template) -> Template:
    """A shipped template in the language of the window: programmes and lanes made of it are called so, in files too."""
    lanes = tuple(replace(lane, name=translated(lane.name)) for lane in template.lanes)
    return replace(template, name=translated(template.name), lanes=lanes)

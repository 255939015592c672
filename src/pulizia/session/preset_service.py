# SPDX-License-Identifier: GPL-3.0-or-later
"""Settings of a tool kept under a name, and two states of a step's settings to compare. No Qt."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import Any

from pulizia.errors import PuliziaError, SettingsError, brief
from pulizia.media.folders import config_folder
from pulizia.media.write import write_text
from pulizia.score.steps import Step
from pulizia.session.core import SessionCore
from pulizia.settings.as_dict import from_dict, to_dict
from pulizia.settings.declare import Settings
from pulizia.tools.registry import RENAMED, tool_of
from pulizia.words import tr, translated

LONGEST_NAME = 80


class PresetService:
    """Works on the selected step. Presets lie in the user's folder, one file for each tool."""

    def __init__(self, session: SessionCore) -> None:
        self._session = session

    # -- two states

    @property
    def side(self) -> str:
        """Which of both states the selected step shows, "A" or "B"."""
        step = self._session.step
        return step.compared[0] if step is not None and step.compared is not None else "A"

    def show_side(self, side: str) -> None:
        """Show the settings of a side; the first time, B begins as a copy of A. Both are kept with the project."""
        step, owner = self._session.step, self._session.owner
        if step is not None and owner is not None and side != self.side:
            self._session.document.compare_settings(owner.id, step.id, side)

    def switch_side(self) -> None:
        """From A to B, or back."""
        self.show_side("B" if self.side == "A" else "A")

    # -- presets

    def names(self, tool_id: str) -> list[str]:
        """Names of what was kept for a tool."""
        return sorted(self._rows(tool_id), key=str.casefold)

    def save(self, name: str) -> None:
        """Keep the settings of the selected step under a name, without places and what was learned."""
        step, name = self._session.step, name.strip()[:LONGEST_NAME]
        if step is None or not name:
            return
        rows = self._rows(step.tool_id) | {name: to_dict(step.for_recipe().settings)}
        if self._write(step.tool_id, rows):
            self._session.say(
                tr("{name} was saved as a preset of {tool}.", name=name, tool=translated(step.tool.title))
            )

    def remove(self, tool_id: str, name: str) -> None:
        """Delete a preset."""
        self._write(tool_id, {key: row for key, row in self._rows(tool_id).items() if key != name})

    def apply(self, name: str) -> None:
        """Give the selected step the settings of a preset; its places and what it has learned stay."""
        step = self._session.step
        row = self._rows(step.tool_id).get(name) if step is not None else None
        if step is None or row is None:
            return
        try:
            wanted = from_dict(step.tool.settings, row)
        except SettingsError as error:
            self._session.say(tr("{name} cannot be used: {error}.", name=name, error=brief(error)), bad=True)
            return
        own, bare = to_dict(step.settings), to_dict(step.for_recipe().settings)
        places = {key: getattr(step.settings, key) for key in own if own[key] != bare[key]}
        self._use(step, step.with_settings(**(_values(wanted) | places)).settings)

    def _use(self, step: Step, settings: Settings) -> None:
        owner = self._session.owner
        if owner is not None:
            self._session.document.use_settings(owner.id, step.id, settings)

    def _rows(self, tool_id: str) -> dict[str, dict[str, Any]]:
        """What the file of a tool holds; a damaged one counts as empty."""
        file = self._file(tool_id)
        earlier = [file.with_stem(old) for old, new in RENAMED.items() if new == file.stem]
        for known in (file, *earlier):
            with contextlib.suppress(OSError, ValueError):
                content = json.loads(known.read_text(encoding="utf-8"))
                if isinstance(content, dict):
                    return {str(k): v for k, v in content.items() if isinstance(v, dict)}
        return {}

    def _write(self, tool_id: str, rows: dict[str, dict[str, Any]]) -> bool:
        try:
            write_text(self._file(tool_id), json.dumps(rows, indent=1) + "\n")
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
            return False
        return True

    @staticmethod
    def _file(tool_id: str) -> Path:
        return config_folder("presets") / f"{tool_of(tool_id).id}.json"


def _values(settings: Settings) -> dict[str, Any]:
    return {name: getattr(settings, name) for name in to_dict(settings)}

# SPDX-License-Identifier: GPL-3.0-or-later
"""What is done in the assembly to the steps that are shown: of a recording, a lane or the programme. No Qt."""

from __future__ import annotations

from pulizia.audio.spans import Span
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.words import tr


class ProgrammeSteps:
    """Edits of the selected step, and the way back to the untouched take."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def switch(self) -> None:
        """Switch the selected step on or off."""
        owner, step = self._session.owner, self._session.step
        if owner is not None and step is not None:
            self._session.document.set_enabled(owner.id, step.id, enabled=not step.enabled)

    def move(self, by: int) -> None:
        """Move the selected step up (-1) or down (1)."""
        owner, step = self._session.owner, self._session.step
        if owner is not None and step is not None:
            self._session.document.move_step(owner.id, step.id, [s.id for s in owner.steps].index(step.id) + by)

    def remove(self) -> None:
        """Take the selected step away."""
        owner, step = self._session.owner, self._session.step
        if owner is not None and step is not None:
            self._session.document.remove_step(owner.id, step.id)

    def paste_on_lanes(self) -> None:
        """Add the selected step to every other lane of the chosen one's kind, as one edit."""
        programme, lane, step = self._assembly.programme, self._assembly.lane, self._session.step
        if programme is None or lane is None or step is None:
            return
        others = [other.id for other in programme.lanes if other.kind == lane.kind and other.id != lane.id]
        if not others:
            self._session.say(tr("There is no other lane of this kind."), bad=True)
            return
        self._session.document.paste_step_on(others, step)

    def restore_original(self) -> None:
        """Give the untouched take back in the section on the chosen lane, or in the selected clips: one edit."""
        programme, span, lane = self._assembly.programme, self._assembly.span, self._assembly.lane
        if programme is None:
            return
        if span is not None and lane is not None:
            under = [c for c in lane.clips if c.start < span.stop and span.start < c.stop]
            places = [(c, Span(max(c.start, span.start), min(c.stop, span.stop))) for c in under]
        else:
            places = [(c, c.span) for c in self._assembly.clips]
        owners: list[tuple[str, Span]] = []
        for clip, part in places:
            recording = self._assembly.recording_of(clip)
            if recording is not None and not clip.tone:
                scale = recording.rate / programme.rate
                ends = (round(clip.heard_at(f) * scale) for f in (part.start, part.stop))
                first, last = (min(max(0, f), recording.frames) for f in ends)
                if last > first:  # its recording may end before it, where a shorter file was linked
                    owners.append((recording.id, Span(first, last)))
        if not owners:
            self._session.say(tr("Select clips, or a section of a lane, first."), bad=True)
        elif not self._session.document.give_back_in(owners):
            self._session.say(tr("No step applies to the selection: it is already the original."))

# SPDX-License-Identifier: GPL-3.0-or-later
"""What one does with the marked stretch and the selected step: learn noise, mend, copy, give back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from pulizia.audio.layouts import are_microphones
from pulizia.audio.source import read_padded
from pulizia.audio.spans import Span
from pulizia.errors import PuliziaError
from pulizia.measure.same_sound import SameSound
from pulizia.media.open import OpenMedia
from pulizia.score.steps import Step, make_step
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.tools.base import Sample, Survey
from pulizia.tools.original import lying_at
from pulizia.tools.registry import tool_of
from pulizia.units import seconds_to_frames
from pulizia.words import tr, translated

SHORTEST_NOISE_S = 0.05
SHORTEST_SECTION_S = 0.5
LONGEST_MENDED_S, MEND_REACH_S = 0.1, 0.03
MOST_LISTENED_S = 10.0  # of marked noise, to tell whether it is digital silence


class RepairService:
    """The part of the session that adds and changes steps."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session

    def take_as_noise(self) -> None:
        """Learn the marked noise: into the selected Noise step, or into a new one over everything; for each microphone one."""
        chain, owner, selection = self.session.owner_chain, self.session.owner, self.session.owner_selection
        if chain is None or owner is None:
            return
        if selection is None:
            self.session.say(tr("Select half a second or more with only noise first."), bad=True)
            return
        rate = owner.rate
        place = (selection.span.start / rate, selection.span.stop / rate)
        if selection.span.frames < SHORTEST_NOISE_S * rate:
            ms = 1000 * selection.span.frames / rate
            self.session.say(
                tr("The noise sample is {ms:.0f} ms long. Select at least 50 ms, better half a second.", ms=ms),
                bad=True,
            )
            return
        listened = min(selection.span.stop, selection.span.start + round(MOST_LISTENED_S * rate))

        def is_silent(_job: Job) -> bool:
            return not read_padded(chain.before, selection.span.start, listened).any()

        def done(silent: object) -> None:
            if silent:
                self.session.say(
                    tr("The noise sample is digital silence. Select a section where the noise is heard."), bad=True
                )
            elif self.session.owner is not None and self.session.owner.id == owner.id:
                self._learn_noise(place)

        self.session.job(is_silent, tr("Listening to the noise"), done)

    def _learn_noise(self, place: tuple[float, float]) -> None:
        owner, step = self.session.owner, self.session.step
        if owner is None:
            return
        if step is not None and step.tool_id == "noise":
            known = getattr(step.settings, "profile_spans_s", ())
            others = [span for span in known if span[1] <= place[0] or span[0] >= place[1]]
            changes = {"profile_spans_s": tuple(sorted([*others, place])), "profile_levels": ()}
            document = self.session.document
            with document.history.one_deed(tr("Learn noise")):
                for one in _of_other_microphones(owner.steps, step):
                    document.change_settings(owner.id, one.id, **changes)
            document.history.settle()
            return
        made = make_step("noise", {"profile_spans_s": [list(place)]})
        names = self.session.names_of(owner)
        # each microphone has a noise of its own, and who speaks into one is no reason to lower less in another
        channels = [(n,) for n in range(len(names))] if are_microphones(names) else [None]
        steps = self.session.document.add_steps(
            owner.id,
            [replace(made, channels=c) for c in channels],
            tr("Add {title}", title=translated(made.tool.title)),
        )
        self.session.step_id = steps[0].id
        self.session.events.selection.emit()

    def drop_sample(self, sample: Sample) -> None:
        """Learn no longer from a sample: one that was given goes, one that was found is rejected."""
        step, owner = self.session.step, self.session.owner
        if step is None or owner is None:
            return
        name = step.tool.sample_field if sample.by_hand else step.tool.reject_field
        if not name:  # another step was selected meanwhile
            return
        a, b = sample.start / owner.rate, sample.stop / owner.rate
        known = getattr(step.settings, name)
        left = tuple(span for span in known if span[1] <= a or span[0] >= b)
        self._set(**{name: left if sample.by_hand else tuple(sorted([*left, (round(a, 6), round(b, 6))]))})

    def accept_rejected(self) -> None:
        """Learn from what was rejected again."""
        if self.session.step is not None:
            self._set(**{self.session.step.tool.reject_field: ()})

    def find_sections(self) -> None:
        """Find the sections again where they were set by hand."""
        if self.session.step is not None:
            self._set(**{self.session.step.tool.edge_field: ()})

    def move_edge(self, step: Step, edges: Sequence[int], index: int, frame: int) -> None:
        """Let a section begin at another frame; ``edges`` are the beginnings as they are now."""
        owner = self.session.owner
        if owner is None:
            return
        least = round(SHORTEST_SECTION_S * owner.rate)
        low = (edges[index - 1] if index else 0) + least
        high = (edges[index + 1] if index + 1 < len(edges) else owner.frames) - least
        moved = [*edges[:index], min(max(frame, low), max(low, high)), *edges[index + 1 :]]
        ends = [0, *moved, owner.frames]
        sections = tuple((round(a / owner.rate, 4), round(b / owner.rate, 4)) for a, b in pairwise(ends))
        self.session.document.change_settings(owner.id, step.id, **{step.tool.edge_field: sections})

    def edges_of(self, step: Step, found: Survey | None) -> tuple[int, ...]:
        """Frames at which the sections of a step begin after the first: those set by hand, else those found."""
        owner = self.session.owner
        name = step.tool.edge_field
        if not name or owner is None or not step.tool.applies(step.settings, name):
            return ()
        given = getattr(step.settings, name)
        if given:
            return tuple(seconds_to_frames(start, owner.rate) for start, _ in sorted(given)[1:])
        return found.edges if found is not None else ()

    def _set(self, **changes: object) -> None:
        step, owner = self.session.step, self.session.owner
        if step is not None and owner is not None:
            self.session.document.change_settings(owner.id, step.id, **changes)
            self.session.document.history.settle()

    def add_tool(self, tool_id: str, *, on_selection: bool) -> None:
        """Add a step of a tool, over everything or over the selection."""
        owner = self.session.owner
        if owner is None:
            return
        spans = (self.session.owner_selection.span,) if on_selection and self.session.owner_selection else None
        band = self.session.owner_selection.band_hz if on_selection and self.session.owner_selection else None
        begins = dict(tool_of(tool_id).begins_with)
        step = self.session.document.add_step(owner.id, tool_id, begins, spans=spans, band_hz=band)
        self.session.step_id = step.id
        self.session.events.selection.emit()

    def take_as_area(self) -> None:
        """Add the marked area to the selected Blots step, or to a new one."""
        owner, selection, step = self.session.owner, self.session.owner_selection, self.session.step
        if owner is None or selection is None or selection.band_hz is None:
            self.session.say(
                tr("Select an area in the sonogram first: drag over time and frequency, or draw freely with Alt held."),
                bad=True,
            )
            return
        rate = owner.rate
        low, high = selection.band_hz
        corners = ((selection.span.start / rate, low), (selection.span.stop / rate, high))
        area = tuple((round(t, 5), round(min(hz, rate / 2), 2)) for t, hz in selection.outline or corners)
        if step is not None and step.enabled and step.tool_id == "areas":
            known = step.settings.areas  # type: ignore[attr-defined]
            self._also(owner.id, step, selection.span, areas=(*known, area))
        else:
            step = self.session.document.add_step(owner.id, "areas", {"areas": [area]})
            self.session.step_id = step.id
        self.session.clear_selection()

    def mend_selection(self) -> None:
        """Repair the marked moment whatever the finder says: in the selected Clicks step, or a new one there."""
        owner, selection, step = self.session.owner, self.session.owner_selection, self.session.step
        if owner is None or selection is None:
            self.session.say(tr("Select the click first; a few milliseconds are enough."), bad=True)
            return
        rate = owner.rate
        if selection.span.frames > LONGEST_MENDED_S * rate:
            self.session.say(
                tr(
                    "Select at most {longest_mended_s:.0f} ms around the click.",
                    longest_mended_s=1000 * LONGEST_MENDED_S,
                ),
                bad=True,
            )
            return
        place = (selection.span.start / rate, selection.span.stop / rate)
        reach = round(MEND_REACH_S * rate)
        around = Span(max(0, selection.span.start - reach), min(owner.frames, selection.span.stop + reach))
        if step is not None and step.enabled and step.tool_id == "clicks":
            mended = tuple(sorted({*step.settings.mend_s, place}))  # type: ignore[attr-defined]
            self._also(owner.id, step, around, mend_s=mended)
            return
        step = self.session.document.add_step(owner.id, "clicks", {"mend_s": [list(place)]}, spans=(around,))
        self.session.step_id = step.id
        self.session.events.selection.emit()

    def _also(self, owner_id: str, step: Step, span: Span, **changes: object) -> None:
        """Change a step that may act in sections only, and let it act in this one: as one entry of history."""
        document = self.session.document
        with document.history.one_deed(tr("Change {title}", title=translated(step.tool.title))):
            document.change_settings(owner_id, step.id, **changes)
            document.act_there(owner_id, step.id, span)
        document.history.settle()

    def put_back(self, recording_id: str, media: OpenMedia, same: SameSound, span: Span | None) -> None:
        """Put a raw recording that was found in the place of a stretch, or of everything."""
        document = self.session.document
        recording = document.project.recording(recording_id)
        start = span.start / recording.rate if span else 0.0
        with document.history.one_deed(tr("Restore from {name}", name=media.path.name)):
            document.add_media(media)
            step = document.add_step(
                recording_id, "original", lying_at(media.fingerprint, same, start), spans=(span,) if span else None
            )
        self.session.choose_recording(recording_id)
        self.session.choose_step(step.id)
        self.session.say(
            tr("{name} is in place. Switch the step off to hear what was there before.", name=media.path.name)
        )

    def trim_to_selection(self) -> None:
        """Let what is marked be the programme; the rest stays in the recording, and is not delivered."""
        recording, selection = self.session.recording, self.session.selection
        if recording is None or selection is None:
            self.session.say(tr("Select what to keep first."), bad=True)
            return
        try:
            self.session.document.trim(recording.id, selection.span)
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return
        self.session.clear_selection()

    def untrim(self) -> None:
        """Let all of the recording be the programme again."""
        if self.session.recording is not None:
            self.session.document.trim(self.session.recording.id, None)

    def give_back(self) -> None:
        """Give the original back in the selection."""
        if self.session.owner is None or self.session.owner_selection is None:
            self.session.say(tr("Select the words to restore first."), bad=True)
            return
        if not self.session.document.give_back(self.session.owner.id, self.session.owner_selection.span):
            self.session.say(tr("No step applies to the selection: it is already the original."))


def _of_other_microphones(steps: Sequence[Step], step: Step) -> list[Step]:
    """A Noise step, and those for other channels that learn from the same samples."""
    spans = getattr(step.settings, "profile_spans_s", ())
    others = (s for s in steps if s.tool_id == step.tool_id and s.id != step.id and s.channels is not None)
    alike = [s for s in others if step.channels is not None and getattr(s.settings, "profile_spans_s", ()) == spans]
    return [step, *alike]

# SPDX-License-Identifier: GPL-3.0-or-later
"""What is wrong with each recording, before and after its score: found once, then kept up to date."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.inspection.inspect import inspect
from pulizia.inspection.microphones import microphones
from pulizia.inspection.store import FindingStore
from pulizia.inspection.treat import Treatment, treatment
from pulizia.media.ahead import threads
from pulizia.media.folders import cache_folder
from pulizia.project.model import Recording
from pulizia.score.steps import Step
from pulizia.session.core import SessionCore
from pulizia.session.jobs import LATER, SOON, Job
from pulizia.tools.finding import Finding
from pulizia.words import plural, tr

LEAD_S, HEARD_S = 0.5, 2.0


@dataclass(frozen=True, slots=True)
class Entry:
    """One kind of trouble in the ledger, of one microphone where there are several: as recorded, and after the score."""

    id: str
    before: Finding | None
    after: Finding | None
    left: bool  # the person lets it stay

    @property
    def now(self) -> Finding:
        """The finding that counts: what is left, or what was there."""
        found = self.after or self.before
        assert found is not None  # noqa: S101 - an entry is made from one
        return found

    @property
    def kind(self) -> str:
        """Of trouble."""
        return self.now.kind

    @property
    def is_gone(self) -> bool:
        """Whether the score cured it."""
        return self.after is None


def treats(step: Step, finding: Finding) -> bool:
    """Whether a step is of the tool that a finding names, and for its microphone."""
    for_it = step.channels is None or (finding.channels is not None and set(finding.channels) <= set(step.channels))
    return step.tool_id == finding.tool_id and for_it


class InspectionService:
    """Inspections by the content they listened to. The event "findings" tells of every change."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session
        self._known: dict[str, tuple[Finding, ...]] = {}  # by the key of a source
        self._asked: set[str] = set()  # recordings that were inspected once
        self.listening_to = ""  # what is being looked for, while it is
        self.share = 0.0
        self.fault = ""
        self.is_treating = False
        self.only_kind = ""  # the one kind whose places are shown and walked through; "" is all of them
        self._job: Job | None = None
        self._wanted: tuple[str, str] = ("", "")
        self._places: tuple[tuple[Finding, ...], NDArray[np.int64]] | None = None  # views ask whenever they are drawn
        self._walked: tuple[str, int] | None = None  # recording and frame of the place that was walked to last
        self._store = FindingStore(cache_folder("findings"))
        self._recalled: set[str] = set()  # keys that were looked for in it
        for event in (session.events.current, session.events.document):
            event.connect(self._recall)

    # -- asking

    def _recall(self) -> None:
        """Take up what an earlier session found in the recording on the bench."""
        chain, recording, document = self.session.chain, self.session.recording, self.session.document
        came_back = document.path is not None or document.was_recovered
        if chain is None or recording is None or not came_back or chain.before.key in self._known:
            return
        keys = [k for k in dict.fromkeys((chain.before.key, chain.after.key)) if k not in self._recalled]
        if not keys:
            return
        self._recalled.update(keys)

        def done(found: dict[str, tuple[Finding, ...] | None]) -> None:
            known = {key: findings for key, findings in found.items() if findings is not None}
            if chain.before.key in known:
                self._known |= known
                self._asked.add(recording.id)
                self.session.events.findings.emit()

        self.session.pool.submit(
            lambda _job: {key: self._store.load(key) for key in keys}, title=tr("Looking for earlier findings"),
            priority=LATER, on_done=done,
        )  # fmt: skip

    def run(self) -> None:
        """Inspect the recording on the bench, as recorded and as it is now."""
        if self.session.current_id is not None and self.session.chain is not None:
            self._asked.add(self.session.current_id)
            self._listen(SOON)

    def stop(self) -> None:
        """Stop listening; what is known stays."""
        if self._job is not None:
            self._job.cancel()
            self._job = None
        self.listening_to, self._wanted = "", ("", "")
        self._asked.discard(self.session.current_id or "")
        self.session.events.findings.emit()

    def renew(self) -> None:
        """Bring an inspected recording up to date after an edit, in the background."""
        if self.session.current_id in self._asked and self.session.chain is not None:
            self._listen(LATER)

    @property
    def is_inspected(self) -> bool:
        """Whether the recording on the bench was inspected at all."""
        chain = self.session.chain
        return chain is not None and chain.before.key in self._known

    @property
    def is_current(self) -> bool:
        """Whether what is known holds for the score as it is."""
        chain = self.session.chain
        return chain is not None and {chain.before.key, chain.after.key} <= self._known.keys()

    def _listen(self, priority: int) -> None:
        chain, recording = self.session.chain, self.session.recording
        if chain is None or recording is None:
            return
        wanted = (chain.before.key, chain.after.key)
        if self.is_current or wanted == self._wanted:
            self.session.events.findings.emit()
            return
        names = self.session.channel_names
        sources = [s for s in (chain.before, chain.after) if s.key not in self._known]
        self._wanted, self.fault = wanted, ""
        self.listening_to, self.share = "listening", 0.0

        def told(share: float, what: str, job: Job) -> None:
            if not job.is_cancelled and self._wanted == wanted:
                self.listening_to, self.share = what, share
                self.session.events.findings.emit()

        def work(job: Job) -> dict[str, tuple[Finding, ...]]:
            made = {}
            alone = microphones(chain.before, names, lambda: job.progress(0.0))
            for n, source in enumerate(sources):

                def progress(share: float, what: str, n: int = n) -> None:
                    job.progress((n + share) / len(sources))
                    self.session.post(lambda: told((n + share) / len(sources), what, job))

                made[source.key] = tuple(inspect(source, progress, workers=threads(), alone=alone))
                self._store.save(source.key, made[source.key])
            return made

        def done(made: dict[str, tuple[Finding, ...]]) -> None:
            self._known |= made
            self._end()

        def failed(sentence: str) -> None:
            self.fault = sentence
            self._end()

        self._job = self.session.pool.submit(
            work, title=tr("Inspecting"), priority=priority, slot="inspect", on_done=done, on_error=failed
        )
        self.session.events.findings.emit()

    def _end(self) -> None:
        self.listening_to, self._wanted, self._job = "", ("", ""), None
        self.session.events.findings.emit()

    # -- the ledger

    def entries(self) -> list[Entry]:
        """All kinds that were found in the recording on the bench: what is left first, gravest first."""
        chain, recording = self.session.chain, self.session.recording
        if chain is None or recording is None or chain.before.key not in self._known:
            return []
        before = {f.id: f for f in self._known[chain.before.key]}
        known_after = self._known.get(chain.after.key)
        after = before if known_after is None else {f.id: f for f in known_after}
        made = [
            Entry(name, before.get(name), after.get(name), name in recording.left)
            for name in dict.fromkeys([*before, *after])
        ]
        return sorted(made, key=lambda e: (e.left, e.is_gone, -e.now.severity))

    def current_findings(self, source: Source | None) -> tuple[Finding, ...]:
        """What is known of what is heard now, without what the person lets stay."""
        recording = self.session.recording
        if source is None or recording is None:
            return ()
        return tuple(
            f for f in self._known.get(source.key, ()) if f.id not in recording.left and self.only_kind in ("", f.id)
        )

    def places(self, source: Source | None) -> NDArray[np.int64]:
        """First frames of all moments that were found in what is heard now, rising."""
        found = self.current_findings(source)
        if (
            self._places is None
            or len(self._places[0]) != len(found)
            or any(a is not b for a, b in zip(self._places[0], found, strict=True))
        ):
            frames = {mark.start for finding in found for mark in finding.marks}
            self._places = (found, np.array(sorted(frames), dtype=np.int64))
        return self._places[1]

    def treating_step(self, entry: Entry) -> int | None:
        """Place in the score (from 1) of the first step that is on and treats this kind."""
        recording = self.session.recording
        finding = next((f for f in (entry.before, entry.after) if f is not None and f.tool_id), None)
        if recording is None or finding is None:
            return None
        return next((n for n, s in enumerate(recording.score, 1) if s.enabled and treats(s, finding)), None)

    # -- acting

    def treat(self, finding: Finding) -> None:
        """Add the step that mends this, where it belongs in the score."""
        recording = self.session.recording
        if finding.tool_id and recording is not None:
            step = self.session.document.add_step(
                recording.id, finding.tool_id, finding.settings, channels=finding.channels
            )
            self.session.choose_step(step.id)

    def treat_all(self) -> None:
        """Try a step for each problem that is neither ignored nor treated everywhere; keep what helps, as one edit."""
        recording, chain = self.session.recording, self.session.chain
        if recording is None or chain is None or self.is_treating:
            return
        open_ones = [
            entry.after
            for entry in self.entries()
            if entry.after is not None and entry.after.tool_id and not entry.left and not self._is_treated(entry)
        ]
        work = self._treating(chain.before, open_ones, recording.score)

        def done(made: Treatment) -> None:
            self.is_treating = False
            if made.after is not None:
                self._known[made.key] = made.after
            now = next((r for r in self.session.document.project.recordings if r.id == recording.id), None)
            if now is not None and (now.score, now.fingerprint) == (recording.score, recording.fingerprint):
                self._add(now, made)
            elif now is not None:
                self.session.say(
                    tr("{name}: its steps changed meanwhile and none was added. Treat all again.", name=now.name)
                )
            self.session.events.findings.emit()

        def failed(sentence: str) -> None:
            self.is_treating = False
            self.session.say(sentence, bad=True)

        def stopped() -> None:
            self.is_treating = False
            self.session.say(tr("Trying treatments was stopped. No step was added."))
            self.session.events.findings.emit()

        if not self.is_inspected:
            self.session.say(tr("Nothing is known about this recording yet. Inspect it first."))
        elif not open_ones:
            self.session.say(tr("No finding is left to treat."))
        else:
            self.is_treating = True
            self.session.job(work, tr("Trying treatments"), done, failed, stopped)
            self.session.events.findings.emit()

    def _treating(self, source: Source, wanted: list[Finding], present: tuple[Step, ...]) -> Callable[[Job], Treatment]:
        """The work that tries steps for findings, and keeps what is found in the result."""
        document, names = self.session.document, self.session.channel_names
        known = [entry.id for entry in self.entries()]

        def work(job: Job) -> Treatment:
            made = treatment(
                source, wanted, present=present, known=known,
                alone=microphones(source, names, lambda: job.progress(0.0)), others=document.open_source,
                cache=document.cache, store=document.analyses, progress=lambda share, _what: job.progress(share),
            )  # fmt: skip
            if made.after is not None:
                self._store.save(made.key, made.after)
            return made

        return work

    def _add(self, recording: Recording, made: Treatment) -> None:
        steps = [step for step in made.steps if step not in recording.score]
        self.session.document.set_steps(recording.id, made.steps, tr("Treat all"))
        here = self.session.recording is not None and self.session.recording.id == recording.id
        if steps and here:
            self.session.choose_step(steps[-1].id)
        told = [] if here else [tr("{name}:", name=recording.name)]
        told.append(plural("1 step added.", "{n} steps added.", len(steps)))
        told += [trial.sentence for trial in made.trials if trial.step is None]
        self.session.say(" ".join(told))

    def _is_treated(self, entry: Entry) -> bool:
        """Whether a step that is on treats this kind in the whole recording; one in a section alone does not."""
        recording, finding = self.session.recording, entry.after
        return (
            recording is not None
            and finding is not None
            and any(s.enabled and s.spans is None and treats(s, finding) for s in recording.score)
        )

    def leave(self, finding_id: str, *, leave: bool) -> None:
        """Let a finding stay as it is, or list it again."""
        if self.session.recording is not None:
            self.session.document.ignore_finding(self.session.recording.id, finding_id, ignore=leave)
            self.session.events.findings.emit()

    def show_only(self, kind: str) -> None:
        """Show and walk through the places of one kind; "" is all kinds."""
        self.only_kind = kind
        self.session.events.findings.emit()

    def walk(self, direction: int) -> str:
        """Go to the next (1) or previous (-1) place of all that is open, and play it; the kind that lies there, or ""."""
        recording = self.session.recording
        if recording is None:
            return ""
        lead = round(LEAD_S * recording.rate)
        places = sorted(
            (max(0, mark.start - lead), entry.id)
            for entry in self.entries()
            if not entry.left and not entry.is_gone and self.only_kind in ("", entry.id)
            for mark in entry.now.marks
        )
        if not places:
            self.session.say(tr("No finding has places to go to. Inspect the recording first."))
            return ""
        self.session.transport.stop()
        here = self.session.transport.position
        if self._walked is not None and self._walked[0] == recording.id and self._walked[1] <= here:
            here = self._walked[1]  # where the last one began, however far it was played
        ahead = [p for p in places if p[0] > here] if direction > 0 else [p for p in places[::-1] if p[0] < here]
        frame, kind = ahead[0] if ahead else places[0 if direction > 0 else -1]
        self._walked = (recording.id, frame)
        self._play_place(frame, recording)
        return kind

    def _play_place(self, frame: int, recording: Recording) -> None:
        heard = round(HEARD_S * recording.rate)
        self.session.seek(frame)
        self.session.events.shown.emit(frame, min(recording.frames, frame + heard))
        self.session.transport.play(frame, min(recording.frames, frame + heard))
        self.session.events.playing.emit()

    def visit(self, finding: Finding, direction: int = 1) -> None:
        """Go to the next place of a finding, and play it."""
        recording = self.session.recording
        if recording is None or not finding.marks:
            return
        lead = round(LEAD_S * recording.rate)
        starts = sorted({max(0, m.start - lead) for m in finding.marks})
        self.session.transport.stop()
        here = self.session.transport.position
        later = [s for s in starts if s > here + 1] if direction > 0 else [s for s in starts if s < here - 1][::-1]
        place = later[0] if later else starts[0 if direction > 0 else -1]
        self._play_place(place, recording)

# SPDX-License-Identifier: GPL-3.0-or-later
"""An open project: its edits, its opened media, its chains, its file and journal. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import NamedTuple

from pulizia.audio.markers import Marker
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.measure.blocks import SegmentStore
from pulizia.media.folders import cache_folder, state_folder
from pulizia.media.open import OpenMedia
from pulizia.project.clips import Programme
from pulizia.project.file import SUFFIX, load_with_past, save_project
from pulizia.project.journal import Journal, Recovered
from pulizia.project.model import Project, Recording
from pulizia.project.past import MOST_STATES
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import Step
from pulizia.session.clip_table import clip_rows
from pulizia.session.history import History
from pulizia.session.linked_files import LinkedFiles
from pulizia.session.programme_sounds import ProgrammeSounds
from pulizia.session.project_lock import ProjectLock
from pulizia.session.step_editing import StepEditing
from pulizia.session.subject import Subject, programme_subject, recording_subject
from pulizia.words import plural, tr


class _Made(NamedTuple):
    """A chain with what it was made of; ``others`` are open recordings that steps read, None when no step does."""

    media: OpenMedia
    score: tuple[Step, ...]
    others: tuple[str, ...] | None
    chain: Chain


class Document(StepEditing):
    """The one place that changes a project. Every change is told to the listeners once."""

    def __init__(self, cache: ChunkCache | None = None) -> None:
        self.history = History(Project())
        self.path: Path | None = None
        self.was_recovered = False  # what an earlier session left unsaved
        self.cache = cache or ChunkCache(folder=cache_folder("chunks"))
        self.analyses, self.segments = AnalysisStore(), SegmentStore()
        self._linked = LinkedFiles()
        self.media = self._linked.media
        self.offline: dict[str, str] = {}  # recording id: why its file cannot be used
        self.sounds = ProgrammeSounds(self)
        self._subjects: dict[str, Subject | None] = {}  # until the next change
        self.exchanged: list[Recording] = []  # an undo gave them back another file; it may have to be opened
        self._lock = ProjectLock()
        self._saved: Project = self.history.present
        self._chains: dict[str, _Made] = {}
        self._listeners: list[Callable[[], None]] = []
        self._journal = Journal(state_folder("journal"))
        self._journalled: Project | None = None

    # -- what is

    @property
    def is_dirty(self) -> bool:
        """Whether there are edits that were not saved."""
        return self.project != self._saved

    @property
    def title(self) -> str:
        """Name for people."""
        return self.path.stem if self.path else tr("Untitled")

    def chain(self, recording_id: str) -> Chain | None:
        """The recording's sound before and after its score; None while its file is not open."""
        media = self.media.get(recording_id)
        if media is None:
            return None
        score = self.project.recording(recording_id).score
        known = self._chains.get(recording_id)
        if known is not None and known.score is score and known.media is media and known.others is None:
            return known.chain
        named = [step.other for step in score if step.other]
        others = tuple(other for other in named if self.open_source(other) is not None) if named else None
        if (
            known is None
            or known.media.fingerprint != media.fingerprint
            or (known.others, known.score) != (others, score)
        ):
            previous = known.chain if known is not None else None
            chain = Chain(media.source, score, self.cache, self.analyses, self.open_source, previous)
        else:
            chain = known.chain
        self._chains[recording_id] = _Made(media, score, others, chain)
        return chain

    def chain_or_none(self, recording_id: str) -> Chain | None:
        """The same; also None for one that is not part of the project."""
        return self.chain(recording_id) if any(r.id == recording_id for r in self.project.recordings) else None

    def programme(self, subject_id: str | None, what: str = "after") -> Source | None:
        """What of a recording or programme is delivered, "before" or "after" its steps; None when it cannot be heard."""
        subject = self.subject(subject_id)
        return None if subject is None else subject.before if what == "before" else subject.after

    def subject(self, subject_id: str | None) -> Subject | None:
        """A recording or programme as what is delivered; None when it is not there, cannot be opened or holds no clips."""
        if subject_id is None:
            return None
        if subject_id not in self._subjects:
            self._subjects[subject_id] = self._subject(subject_id)
        return self._subjects[subject_id]

    def _subject(self, subject_id: str) -> Subject | None:
        project = self.project
        programme = next((p for p in project.programmes if p.id == subject_id), None)
        if programme is not None:
            sound = self.sounds.of(programme)
            files = {r.id: r.path.name for r in project.recordings}
            table = partial(clip_rows, programme, lambda i: files.get(i, ""))
            return None if sound is None else programme_subject(programme, sound, table)
        recording = next((r for r in project.recordings if r.id == subject_id), None)
        chain = self.chain(recording.id) if recording is not None else None
        if recording is None or chain is None:
            return None
        return recording_subject(recording, self.media[recording.id], chain)

    def open_source(self, fingerprint: str) -> Source | None:
        """The opened recording of the project with this fingerprint."""
        return next((m.source for m in self.media.values() if m.fingerprint == fingerprint), None)

    def listen(self, notice: Callable[[], None]) -> None:
        """Call ``notice`` after every change."""
        self._listeners.append(notice)

    # -- recordings

    def add_media(self, *opened: OpenMedia) -> str:
        """Add opened files as recordings, as one entry of history; returns the identity of the first."""
        there = {(r.path, r.fingerprint): r for r in self.project.recordings}
        project, first, names = self.project, "", list[str]()
        for media in opened:
            recording = there.get((media.path.absolute(), media.fingerprint))
            if recording is None:
                recording = there[media.path.absolute(), media.fingerprint] = Recording.of_media(media)
                self.media[recording.id] = media
                project = project.with_recording(recording)
                names.append(recording.name)
            first = first or recording.id
        if names:
            one = tr("Add {name}", name=names[0])
            self._edit(project, one if len(names) == 1 else plural("Add 1 recording", "Add {n} recordings", len(names)))
        return first

    def add_recordings(self, recordings: Iterable[Recording], what: str) -> None:
        """Add recordings whose files are still to be opened; known ones stay as they are."""
        known = {r.id for r in self.project.recordings}
        new = tuple(r for r in recordings if r.id not in known)
        if new:
            self._edit(replace(self.project, recordings=(*self.project.recordings, *new)), what)

    def attach(self, recording_id: str, media: OpenMedia) -> None:
        """Give a recording of a loaded project its opened file; note it when it is another one.

        A recording that was removed meanwhile has nothing to be given.
        """
        recording = self._find(recording_id)
        if recording is None:
            return
        if media.fingerprint != recording.fingerprint:
            self.offline[recording_id] = tr(
                "{name} has changed since the project was saved. Relink it to the original, or to this file if the change is meant.",
                name=recording.path.name,
            )
        else:
            self.offline.pop(recording_id, None)
            self.media[recording_id] = media
        self._tell()

    def note_digest(self, recording_id: str, media: OpenMedia, digest: str) -> str:
        """Note the digest of a recording's whole file; returns a sentence when it is not the file that was saved."""
        if self.media.get(recording_id) is not media:
            return ""
        recording = self._find(recording_id)
        if recording is not None and recording.digest and recording.digest != digest:
            del self.media[recording_id]
            why = tr(
                "{name} has changed inside since the project was saved. Relink it to the original, or to this file if the change is meant.",
                name=recording.path.name,
            )
            self.mark_offline(recording_id, why)
            return why
        self._linked.note_digest(recording_id, media, digest)
        self._subjects.clear()
        return ""

    def _find(self, recording_id: str) -> Recording | None:
        """The recording, unless it was removed while something was done for it."""
        return next((r for r in self.project.recordings if r.id == recording_id), None)

    def mark_offline(self, recording_id: str, why: str) -> None:
        """Note that a recording's file cannot be opened."""
        self.offline[recording_id] = why
        self._tell()

    def relink(self, recording_id: str, media: OpenMedia, others: Mapping[str, OpenMedia] | None = None) -> None:
        """Use another file for a recording, keeping its score; ``others`` were found with it. One entry of history."""
        found, project = {recording_id: media, **(others or {})}, self.project
        for relinked_id, its_media in found.items():
            project = project.with_recording(project.recording(relinked_id).relinked(its_media))
        for relinked_id, its_media in found.items():
            self._linked.link(relinked_id, its_media)
            self.offline.pop(relinked_id, None)
        self._edit(project, tr("Relink {name}", name=project.recording(recording_id).name))

    def remove_recording(self, recording_id: str) -> None:
        """Take a recording out of the project; its file stays."""
        self.remove_recordings((recording_id,))

    def remove_recordings(self, recording_ids: Iterable[str]) -> None:
        """Take recordings out of the project, as one entry of history; their files stay."""
        project, names = self.project, []
        for recording_id in recording_ids:
            names.append(project.recording(recording_id).name)
            project = project.without_recording(recording_id)
        self._edit(project, tr("Remove {name}", name=", ".join(names)))

    # -- markers

    def set_markers(self, recording_id: str, markers: Iterable[Marker], what: str) -> None:
        """Exchange the markers of a recording; ``what`` is done, in words for the history."""
        recording = self.project.recording(recording_id).with_markers(markers)
        if recording.markers != self.project.recording(recording_id).markers:
            self._edit(self.project.with_recording(recording), what)

    def ignore_finding(self, recording_id: str, finding_id: str, *, ignore: bool) -> None:
        """Let a finding stay as it is, or list it again."""
        recording = self.project.recording(recording_id)
        left = tuple(k for k in recording.left if k != finding_id) + ((finding_id,) if ignore else ())
        if left != recording.left:
            what = tr("Ignore a finding") if ignore else tr("List a finding again")
            self._edit(self.project.with_recording(replace(recording, left=left)), what)

    # -- programmes

    def edit_programme(self, programme: Programme, what: str, merge_key: str | None = None) -> None:
        """Put a changed or new programme into the project; ``what`` is done, in words for the history."""
        self._edit(self.project.with_programme(programme), what, merge_key)

    def set_lane_height(self, programme_id: str, lane_id: str, height: float) -> None:
        """How tall a lane is drawn, relative to the others; no entry of history."""

        def changed(project: Project) -> Project:
            programme = next((p for p in project.programmes if p.id == programme_id), None)
            lane = next((la for la in programme.lanes if la.id == lane_id), None) if programme is not None else None
            if programme is None or lane is None or lane.height == height:
                return project
            return project.with_programme(programme.with_lane(replace(lane, height=height)))

        self.history.amend(changed)
        self._tell()

    def remove_programme(self, programme_id: str) -> None:
        """Take a programme out of the project; its recordings stay."""
        name = self.project.programme(programme_id).name
        self._edit(self.project.without_programme(programme_id), tr("Remove {name}", name=name))

    def trim(self, recording_id: str, kept: Span | None) -> None:
        """Let a stretch be the programme, or all of the recording; ProjectError when it is too short."""
        old = self.project.recording(recording_id)
        recording = old.with_trim(kept)
        if recording != old:
            self._edit(self.project.with_recording(recording), tr("Trim") if recording.trim else tr("Remove trim"))

    # -- the project

    def set_target(self, target_id: str, subject_id: str | None = None) -> None:
        """Choose what a recording or programme is delivered for; without one, what all of them are."""
        self._edit(self.project.with_target(target_id, subject_id), tr("Choose the target"))

    def undo(self) -> None:
        """Take the last edit back."""
        if self.history.undo():
            self._tell()

    def redo(self) -> None:
        """Make the edit again that was taken back last."""
        if self.history.redo():
            self._tell()

    def go_to(self, count: int) -> None:
        """Undo or redo until so many edits are in force."""
        if self.history.go_to(count):
            self._tell()

    def save(self, path: Path | None = None) -> None:
        """Write the project file; DiskError or ProjectError when it cannot be."""
        path = path or self.path
        if path is None:
            message = tr("The project has no file name yet. Save it under a name first.")
            raise ProjectError(message)
        if path.suffix.lower() != SUFFIX:
            path = path.with_name(path.name + SUFFIX)
        if not self._lock.take(path):
            message = tr("{name} is open in another window. Save under another name.", name=path.name)
            raise ProjectError(message)
        noted: dict[int, Recording] = {}  # one for each value, so that states of the past go on sharing them

        def with_digests(project: Project) -> Project:
            for r in project.recordings:
                if id(r) not in noted:
                    noted[id(r)] = self._linked.with_digest(r)
            return replace(project, recordings=tuple(noted[id(r)] for r in project.recordings))

        past = [(label, with_digests(earlier)) for label, earlier in self.history.past[-MOST_STATES:]]
        save_project(with_digests(self.project), path, past)
        self.path, self._saved = path, self.project
        self._journal.drop()
        self._journalled = None
        self._tell()

    def load(self, path: Path) -> bool:
        """Open a project file in place of the present project; ProjectError when it cannot be.

        False when another window has it open: then this is a copy without a name.
        """
        project, past = load_with_past(path)
        mine = self._lock.take(path)
        if not mine:
            self._lock.release()
        self._begin(project, path if mine else None, saved=project if mine else None, past=past)
        return mine

    def recover(self, found: Recovered) -> None:
        """Take up what an earlier session left unsaved."""
        mine = found.path is None or self._lock.take(found.path)
        self._begin(found.project, found.path if mine else None, saved=None)
        self.was_recovered = True
        self.write_journal()
        found.journal.unlink(missing_ok=True)

    def start_new(self) -> None:
        """An empty project."""
        project = Project()  # with an identity of its own
        self._lock.release()
        self._begin(project, None, saved=project)

    def begin_here(self) -> None:
        """Let what is there be the beginning: nothing to take back, nothing to save."""
        self.history, self._saved = History(self.project), self.project
        self._tell()

    def write_journal(self) -> None:
        """Keep unsaved edits where a later session finds them; called from time to time."""
        if self.is_dirty and self.project is not self._journalled:
            self._journal.keep(self.project, self.path)
            self._journalled = self.project
        elif not self.is_dirty and self._journalled is not None:
            self._journal.drop()
            self._journalled = None

    def journal_work(self) -> Callable[[], None] | None:
        """What a worker does to keep unsaved edits; None when there are none that are not kept."""
        if not self.is_dirty or self.project is self._journalled:
            self.write_journal()  # nothing to write: at most a file to take away
            return None
        self._journalled = self.project
        return partial(self._journal.keep, self.project, self.path, self._journal.turn)

    def drop_journal(self) -> None:
        """The session ends in order: nothing is left to recover."""
        self._journal.drop()
        self._lock.release()

    def _begin(
        self, project: Project, path: Path | None, *, saved: Project | None, past: Sequence[tuple[str, Project]] = ()
    ) -> None:
        self._journal.drop()
        self._journalled, self.was_recovered = None, False
        self.history = History(project)
        self.history.take_past(past)
        self.path, self._saved = path, saved if saved is not None else Project()
        for known in (self._linked, self.offline, self.exchanged, self._chains):
            known.clear()
        self.sounds.forget()
        self._tell()

    def _tell(self) -> None:
        for recording in self._linked.follow(self.project.recordings):
            self.offline.pop(recording.id, None)
            self.exchanged.append(recording)
        self._subjects.clear()
        for notice in self._listeners:
            notice()

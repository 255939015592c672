# SPDX-License-Identifier: GPL-3.0-or-later
"""What the window works on: document, jobs, transport, selection and measures in one place. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from pulizia.audio.layouts import channel_names
from pulizia.audio.source import PICKS, Source, picked
from pulizia.audio.spans import Span
from pulizia.delivery.targets import Target
from pulizia.dsp.band_pass import BandSource
from pulizia.measure.overview import PeakStore
from pulizia.media.folders import cache_folder
from pulizia.project.model import Project, Recording
from pulizia.project.step_owner import StepOwner
from pulizia.score.chain import Chain
from pulizia.score.steps import Step
from pulizia.session.awaited import Awaited
from pulizia.session.document import Document
from pulizia.session.heard import Heard, Listening
from pulizia.session.heard_subject import OtherSubject, Selection
from pulizia.session.jobs import Job, JobPool, Post
from pulizia.session.measure_service import MeasureService
from pulizia.session.measured import Measured
from pulizia.session.output_protocol import SoundOut
from pulizia.session.subject import Subject
from pulizia.session.transport import Transport
from pulizia.units import db_to_gain
from pulizia.words import tr, translated

HAND_S = 0.3  # after a slider has moved: so long one worker has to do


class SessionCore(Measured):
    """What all services share: the document, work in the background, what is current and what is heard.

    All methods are called on the interface's thread.
    """

    def __init__(self, output: SoundOut, post: Post = lambda call: call(), *, threads: int = 3) -> None:
        super().__init__()
        self.post = post
        self.document = Document()
        self.pool = JobPool(post, threads)
        self.pool.fault = lambda text: self.say(text, bad=True)
        self.awaited = Awaited(self.pool, self.say, self.events.busy, self.events.answered)
        self.peaks = PeakStore(cache_folder("peaks"))
        self.transport = Transport(output)
        self.transport.on_error = lambda text: post(lambda: self.say(text, bad=True))
        self.transport.on_notice = lambda text: post(lambda: self.say(text))
        self.transport.on_stopped = lambda: post(self.events.playing.emit)
        self.current_id: str | None = None
        self.step_id: str | None = None
        self.more_steps: frozenset[str] = frozenset()  # selected together with it
        self.selection: Selection | None = None
        self.listening = Listening.AFTER
        self.matched = True
        self.only_band = False  # hear the marked band alone
        # what will be delivered, heard in the place of After; its gain matches the level
        self.preview: Heard | None = None
        self.pick = ""  # which mixture of two channels is heard; "" for both as they are
        self.other: OtherSubject | None = None  # None is the recording on the bench
        self.only_channel: int | None = None  # the one of several channels that is heard; None for all of them
        self._targets: dict[str, Target] = {}
        self._told_cleaned: set[str] = set()
        self._service = MeasureService(
            self.document, self.peaks, self.pool, post, measured=self._measured,
            grown=self.events.pictures.emit, failed=lambda text: self.say(text, bad=True),
        )  # fmt: skip
        self._here: tuple[Project, str | None, Recording | None] | None = None
        self.document.listen(self._document_changed)

    # -- what is current

    @property
    def recording(self) -> Recording | None:
        """The recording on the bench."""
        project = self.document.project
        if self._here is None or self._here[0] is not project or self._here[1] != self.current_id:
            found = next((r for r in project.recordings if r.id == self.current_id), None)
            self._here = project, self.current_id, found  # asked for by every command at every change
        return self._here[2]

    @property
    def chain(self) -> Chain | None:
        """Its sound; None while its file is not open."""
        return None if self.recording is None else self.document.chain(self.recording.id)

    @property
    def owner(self) -> StepOwner | None:
        """Whose steps are shown and changed: the recording on the bench, or what is chosen in the assembly."""
        if self.other is not None:
            return self.other.owner
        recording = self.recording
        return StepOwner.of_recording(recording) if recording is not None else None

    @property
    def owner_chain(self) -> Chain | None:
        """The sound of that before and after its steps; None while its file is not open."""
        return self.other.owner_chain if self.other is not None else self.chain

    @property
    def owner_selection(self) -> Selection | None:
        """The selection on the clock of that."""
        return self.other.owner_selection if self.other is not None else self.selection

    @property
    def owner_position(self) -> int:
        """The playhead on the clock of that."""
        here = self.transport.position
        return self.other.to_owner(here) if self.other is not None else here

    def seek_owner(self, frame: int) -> None:
        """Move the playhead to a frame of that."""
        self.seek(self.other.from_owner(frame) if self.other is not None else frame)

    def select_owner(self, start: int, stop: int) -> None:
        """Select a section of that."""
        if self.other is not None:
            self.other.select_span(self.other.from_owner(start), self.other.from_owner(stop))
        else:
            self.select(start, stop)

    @property
    def step(self) -> Step | None:
        """The selected step."""
        owner = self.owner
        return None if owner is None else next((s for s in owner.steps if s.id == self.step_id), None)

    @property
    def heard_source(self) -> Source | None:
        """What the pictures and the ears read now."""
        if self.other is not None:
            return self.other.source
        chain = self.chain
        return None if chain is None else source_of(chain, self.listening, self.step_id)

    @property
    def subject_id(self) -> str | None:
        """Identity of the recording or programme that is heard."""
        return self.other.subject_id if self.other is not None else self.current_id

    @property
    def subject(self) -> Subject | None:
        """The recording or programme that is heard, as what is delivered; None while it cannot be."""
        return self.document.subject(self.subject_id)

    @property
    def rate(self) -> int:
        """Frames a second of what is heard."""
        source = self.heard_source
        return source.rate if source is not None else 48_000

    @property
    def marked(self) -> Span | None:
        """The marked stretch of what is heard; a programme that has become shorter since is marked up to its end."""
        if self.other is None:
            return self.selection.span if self.selection is not None else None
        span, source = self.other.span, self.heard_source
        if span is None or source is None or span.stop <= source.frames:
            return span
        return Span(span.start, source.frames) if span.start < source.frames else None

    def choose_recording(self, recording_id: str | None) -> None:
        """Put a recording on the bench."""
        if recording_id == self.current_id:
            return
        if self.other is None:
            self.transport.stop()
        self.current_id, self.selection, self.only_channel = recording_id, None, None
        if self.other is None:
            self.first_step()
            self.transport.loop = None
            self.sync(same_place=False)
        self.events.current.emit()

    def first_step(self) -> None:
        """Select the first step, when the selected one is not among those that are shown."""
        owner = self.owner
        steps = owner.steps if owner is not None else ()
        if self.step_id not in {s.id for s in steps}:
            self.step_id = steps[0].id if steps else None

    @property
    def steps_chosen(self) -> tuple[Step, ...]:
        """All steps that are selected, in their order."""
        owner = self.owner
        return () if owner is None else tuple(s for s in owner.steps if s.id == self.step_id or s.id in self.more_steps)

    def choose_steps(self, step_ids: Iterable[str]) -> None:
        """Select several steps; the one whose settings are shown stays among them, or is the last one."""
        ids = list(step_ids)
        shown = self.step_id if self.step_id in ids else ids[-1] if ids else None
        more = frozenset(ids) - {shown or ""}
        if (shown, more) != (self.step_id, self.more_steps):
            self.more_steps = more
            self.step_id = shown
            self.events.selection.emit()

    def choose_step(self, step_id: str | None) -> None:
        """Select a step, alone."""
        if step_id != self.step_id or self.more_steps:
            self.step_id, self.more_steps = step_id, frozenset()
            self.events.selection.emit()
            if self.listening is Listening.STEP:
                self.sync()
                self.events.listening.emit()

    def job(
        self, work: Callable[[Job], object], title: str, done: Callable[..., None],
        failed: Callable[[str], None] | None = None, stopped: Callable[[], None] | None = None,
        slot: str | None = None,
    ) -> Job:  # fmt: skip
        """Do work that the person waits for, with its progress shown; answers come on this thread."""
        return self.awaited.begin(work, title, done, failed, stopped, slot)

    # -- listening

    def set_listening(self, listening: Listening) -> None:
        """Choose what is heard and seen."""
        if listening is not self.listening:
            self.listening = listening
            self.sync()
            self.events.listening.emit()

    def set_matched(self, matched: bool) -> None:  # noqa: FBT001 - the state itself
        """Match the level of After to Before, or not."""
        self.matched = matched
        self.sync()
        self.events.listening.emit()

    def set_preview(self, heard: Heard | None) -> None:
        """Hear what will be delivered in the place of After; None hears the worked recording again."""
        if heard != self.preview:
            self.preview = heard
            self.sync()

    def set_pick(self, pick: str) -> None:
        """Listen to both channels as they are (""), or to one mixture of them; see PICKS."""
        self.pick = pick
        self.sync()
        self.events.listening.emit()
        if pick:
            self.say(
                tr("Monitoring {channel}. Display and files are not affected.", channel=translated(PICKS[pick][1]))
            )

    @property
    def channel_names(self) -> tuple[str, ...]:
        """Names of the recording's channels; () while its file is not open."""
        return self.channels_of(self.current_id or "")

    def channels_of(self, recording_id: str) -> tuple[str, ...]:
        """Names of a recording's channels; () while its file is not open."""
        media = self.document.media.get(recording_id)
        return () if media is None else media.channel_names

    def names_of(self, owner: StepOwner) -> tuple[str, ...]:
        """Names of the channels that the steps of a recording, lane or programme act on; () while its file is not open."""
        if owner.kind == "recording":
            return self.channels_of(owner.id)
        programmes = self.document.project.programmes
        of = next((p for p in programmes if owner.id == p.id or any(owner.id == la.id for la in p.lanes)), None)
        return () if of is None else channel_names(of.channels)

    @property
    def step_channels(self) -> tuple[str, ...]:
        """Names of the channels that the steps which are shown act on."""
        return () if self.owner is None else self.names_of(self.owner)

    @property
    def heard_names(self) -> tuple[str, ...]:
        """Names of the channels of what is heard; () while there is nothing."""
        return self.other.names if self.other is not None else self.channel_names

    def hear_channel(self, channel: int | None) -> None:
        """Listen to one channel of several on both loudspeakers, or to all of them (None)."""
        self.only_channel = channel
        self.sync()
        self.events.listening.emit()
        if channel is not None and channel < len(self.channel_names):
            self.say(
                tr(
                    "Monitoring {channel_names} only. Display and files are not affected.",
                    channel_names=self.channel_names[channel],
                )
            )

    def match_gain_db(self) -> float:
        """Gain on After that makes it as loud as Before; 0 until both are measured."""
        if self.other is not None and (self.owner is None or self.owner.kind != "programme"):
            return 0.0  # Before is the programme without the steps of one recording or lane
        return self._service.match_gain_db(self.subject_id or "")

    def sync(self, *, same_place: bool = True) -> None:
        """Give the transport what is to be heard now."""
        source = self.heard_source
        if source is None:
            self.transport.set_material(None, same_place=same_place)
            return
        if (
            self.preview is not None
            and self.listening is Listening.AFTER
            and self.preview.source.frames == source.frames
        ):
            gain = self.preview.gain if self.matched else 1.0
            self.transport.set_material(self._for_ears(self.preview.source, gain), same_place=same_place)
            return
        matched = self.matched and self.listening is Listening.AFTER
        gain = db_to_gain(self.match_gain_db()) if matched else 1.0
        if self.other is not None:
            self.transport.set_material(Heard(source, gain, self.other.names), same_place=same_place)
            return
        if self.pick and source.channels == 2:
            source = picked(source, self.pick)
        band = self.selection.band_hz if self.selection else None
        if self.only_band and band is not None:
            source = BandSource(source, band)
        self.transport.set_material(self._for_ears(source, gain), same_place=same_place)

    def _for_ears(self, source: Source, gain: float) -> Heard:
        names = self.heard_names
        only = self.only_channel if len(names) > 2 else None
        return Heard(source, gain, names if len(names) == source.channels else (), only)

    # -- measuring

    # -- end

    def close(self) -> None:
        """Stop everything; nothing is left running."""
        self.transport.close()
        self.pool.close()

    def _measured(self) -> None:
        media = self.document.media.get(self.current_id or "")
        if media is not None and media.source.cleaned and media.fingerprint not in self._told_cleaned:
            self._told_cleaned.add(media.fingerprint)
            self.say(
                tr(
                    "{name} holds invalid samples (NaN, infinite or impossibly large); they are heard as silence.",
                    name=media.path.name,
                ),
                bad=True,
            )
        self.sync()
        self.events.measures.emit()

    def _document_changed(self) -> None:
        recording = self.recording
        if recording is None and self.document.project.recordings:
            self.choose_recording(self.document.project.recordings[0].id)
        elif recording is None and self.current_id is not None:
            self.choose_recording(None)
        selection = self.selection
        if recording is not None and selection is not None and selection.span.stop > recording.frames:
            self.select(selection.span.start, selection.span.stop, selection.band_hz)  # its file is a shorter one now
        self.first_step()
        if self.document.history.is_in_a_row:
            self.pool.one_at_a_time(HAND_S)
        self.sync()
        self.want_measures()
        self.events.document.emit()


def source_of(chain: Chain, listening: Listening, step_id: str | None) -> Source:
    """The Source that a listening choice means; ``step_id`` is the selected step."""
    if listening is Listening.BEFORE:
        return chain.before
    if listening is Listening.STEP:
        return chain.removed_by(step_id)
    return chain.after if listening is Listening.AFTER else chain.removed

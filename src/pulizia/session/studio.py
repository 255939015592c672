"""What the window works on: document, jobs, transport, selection and measures in one place. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from pulizia.audio.source import PICKS, PickedSource, Source, read_padded
from pulizia.audio.spans import Span
from pulizia.delivery.targets import Target, all_targets
from pulizia.dsp.band_pass import BandSource
from pulizia.errors import PuliziaError
from pulizia.measure.loudness import Measures
from pulizia.measure.overview import PeakStore
from pulizia.media.folders import cache_folder, config_folder, prune
from pulizia.project.model import Recording
from pulizia.score.chain import Chain
from pulizia.score.steps import Step, new_id
from pulizia.session.document import Document
from pulizia.session.file_desk import FileDesk
from pulizia.session.jobs import LATER, SOON, Job, JobPool, Post
from pulizia.session.marker_desk import MarkerDesk
from pulizia.session.measure_desk import MeasureDesk
from pulizia.session.sound_out import SoundOut
from pulizia.session.survey_desk import SurveyDesk
from pulizia.session.transport import Heard, Listening, Transport
from pulizia.units import db_to_gain, seconds_to_frames

CACHE_LIMITS = {"decoded": 24 << 30, "peaks": 1 << 30}
SHORTEST_NOISE_S = 0.05
LONGEST_MENDED_S, MEND_REACH_S = 0.1, 0.03
MOST_LISTENED_S = 10.0  # of marked noise, to tell whether it is digital silence

EVENTS = ("document", "current", "selection", "listening", "measures", "pictures", "message", "busy", "playing", "surveys")


@dataclass(frozen=True, slots=True)
class Selection:
    """A marked stretch, and a band when it was marked in the sonogram."""

    span: Span
    band_hz: tuple[float, float] | None = None


class Studio:
    """The session behind a window. All methods are called on the interface's thread."""

    def __init__(self, output: SoundOut, post: Post = lambda call: call(), *, threads: int = 3) -> None:
        self._events: dict[str, list[Callable[..., None]]] = {name: [] for name in EVENTS}
        self.post = post
        self.document = Document()
        self.pool = JobPool(post, threads)
        self.pool.fault = lambda text: self.say(text, bad=True)
        self.peaks = PeakStore(cache_folder("peaks"))
        self.transport = Transport(output)
        self.transport.on_error = lambda text: post(lambda: self.say(text, bad=True))
        self.transport.on_stopped = lambda: post(lambda: self.emit("playing"))
        self.current_id: str | None = None
        self.step_id: str | None = None
        self.selection: Selection | None = None
        self.listening = Listening.AFTER
        self.matched = True
        self.only_band = False  # hear the marked band alone
        self.pick = ""  # which mixture of two channels is heard; "" for both as they are
        self._copied: Step | None = None
        self._targets: dict[str, Target] = {}
        self.files = FileDesk(self)
        self.markers = MarkerDesk(self)
        self.surveys = SurveyDesk(self)
        self._desk = MeasureDesk(
            self.document, self.peaks, self.pool, post, measured=self._measured,
            grown=lambda: self.emit("pictures"), failed=lambda text: self.say(text, bad=True),
        )  # fmt: skip
        self.document.listen(self._document_changed)
        self.pool.submit(lambda _job: _tidy_caches(), title="Tidying caches", priority=LATER)

    # -- events

    def on(self, event: str, call: Callable[..., None]) -> None:
        """Call ``call`` whenever ``event`` happens; see EVENTS."""
        self._events[event].append(call)

    def emit(self, event: str, *values: object) -> None:
        """Tell everybody."""
        for call in self._events[event]:
            call(*values)

    def say(self, text: str, *, bad: bool = False) -> None:
        """Show a sentence to the person."""
        self.emit("message", text, bad)

    # -- what is current

    @property
    def recording(self) -> Recording | None:
        """The recording on the bench."""
        for recording in self.document.project.recordings:
            if recording.id == self.current_id:
                return recording
        return None

    @property
    def chain(self) -> Chain | None:
        """Its sound; None while its file is not open."""
        return None if self.recording is None else self.document.chain(self.recording.id)

    @property
    def step(self) -> Step | None:
        """The selected step."""
        recording = self.recording
        if recording is None:
            return None
        return next((s for s in recording.score if s.id == self.step_id), None)

    @property
    def heard_source(self) -> Source | None:
        """What the pictures and the ears read now."""
        chain = self.chain
        return None if chain is None else source_of(chain, self.listening)

    def choose_recording(self, recording_id: str | None) -> None:
        """Put a recording on the bench."""
        if recording_id == self.current_id:
            return
        self.transport.stop()
        self.current_id, self.selection = recording_id, None
        recording = self.recording
        self.step_id = recording.score[0].id if recording and recording.score else None
        self.transport.loop = None
        self.sync(same_place=False)
        self.emit("current")

    def choose_step(self, step_id: str | None) -> None:
        """Select a step."""
        if step_id != self.step_id:
            self.step_id = step_id
            self.emit("selection")

    def select(self, start: int, stop: int, band_hz: tuple[float, float] | None = None) -> None:
        """Mark a stretch (frames in any order); an empty one clears the mark."""
        recording = self.recording
        if recording is None:
            return
        first, last = sorted((max(0, start), max(0, stop)))
        span = Span(min(first, recording.frames), min(last, recording.frames))
        self.selection = Selection(span, band_hz) if span.frames else None
        if self.only_band:
            self.only_band = band_hz is not None and bool(span.frames)
            self.sync()
        if self.transport.loop is not None:
            self.transport.loop = self.selection.span if self.selection else None
        self.emit("selection")

    def clear_selection(self) -> None:
        """Mark nothing."""
        self.selection = None
        if self.only_band:
            self.only_band = False
            self.sync()
        self.transport.loop = None
        self.emit("selection")

    def job(
        self, work: Callable[[Job], object], title: str, done: Callable[..., None],
        failed: Callable[[str], None] | None = None,
    ) -> Job:  # fmt: skip
        """Do work that the person waits for, with its progress shown; answers come on this thread."""

        def finished(result: object) -> None:
            done(result)
            self.emit("busy")

        def broken(sentence: str) -> None:
            (failed or (lambda text: self.say(text, bad=True)))(sentence)
            self.emit("busy")

        job = self.pool.submit(
            work, title=title, priority=SOON, on_done=finished, on_error=broken,
            on_progress=lambda _share: self.emit("busy"),
        )  # fmt: skip
        self.emit("busy")
        return job

    # -- repairs

    def take_as_noise(self) -> None:
        """Learn the marked noise: into the selected Noise step, or into a new one over everything."""
        chain, recording, selection = self.chain, self.recording, self.selection
        if chain is None or recording is None:
            return
        if selection is None:
            self.say("Mark a stretch of noise alone first, half a second or more.", bad=True)
            return
        rate = recording.rate
        place = (selection.span.start / rate, selection.span.stop / rate)
        if selection.span.frames < SHORTEST_NOISE_S * rate:
            ms = 1000 * selection.span.frames / rate
            self.say(f"The marked noise is {ms:.0f} ms long. Mark at least 50 ms, better half a second.", bad=True)
            return
        listened = min(selection.span.stop, selection.span.start + round(MOST_LISTENED_S * rate))

        def is_silent(_job: Job) -> bool:
            return not read_padded(chain.before, selection.span.start, listened).any()

        def done(silent: object) -> None:
            if silent:
                self.say("The marked noise is digital silence. Mark a stretch where the noise is heard.", bad=True)
            elif self.recording is not None and self.recording.id == recording.id:
                self._learn_noise(place)

        self.job(is_silent, "Listening to the noise", done)

    def _learn_noise(self, place: tuple[float, float]) -> None:
        recording, step = self.recording, self.step
        if recording is None:
            return
        if step is not None and step.tool_id == "noise":
            changes = {"profile_spans_s": (place,), "profile_levels": ()}
            self.document.change_settings(recording.id, step.id, **changes)
            self.document.history.settle()
        else:
            step = self.document.add_step(recording.id, "noise", {"profile_spans_s": [list(place)]})
            self.step_id = step.id
            self.emit("selection")

    def add_tool(self, tool_id: str, *, on_selection: bool) -> None:
        """Add a step of a tool, over everything or over the selection."""
        recording = self.recording
        if recording is None:
            return
        spans = (self.selection.span,) if on_selection and self.selection else None
        band = self.selection.band_hz if on_selection and self.selection else None
        step = self.document.add_step(recording.id, tool_id, spans=spans, band_hz=band)
        self.step_id = step.id
        self.emit("selection")

    def mend_selection(self) -> None:
        """Repair the marked moment whatever the finder says: in the selected Clicks step, or a new one there."""
        recording, selection, step = self.recording, self.selection, self.step
        if recording is None or selection is None:
            self.say("Mark the click first, a few milliseconds are enough.", bad=True)
            return
        rate = recording.rate
        if selection.span.frames > LONGEST_MENDED_S * rate:
            self.say(f"Mark at most {1000 * LONGEST_MENDED_S:.0f} ms around the click.", bad=True)
            return
        place = (selection.span.start / rate, selection.span.stop / rate)
        if step is not None and step.tool_id == "clicks":
            mended = tuple(sorted({*step.settings.mend_s, place}))  # type: ignore[attr-defined]
            self.document.change_settings(recording.id, step.id, mend_s=mended)
            self.document.history.settle()
            return
        reach = round(MEND_REACH_S * rate)
        around = Span(max(0, selection.span.start - reach), min(recording.frames, selection.span.stop + reach))
        step = self.document.add_step(recording.id, "clicks", {"mend_s": [list(place)]}, spans=(around,))
        self.step_id = step.id
        self.emit("selection")

    def copy_step(self) -> None:
        """Keep the selected step for pasting into another recording, with what it has learned."""
        step, chain = self.step, self.chain
        if step is None or chain is None:
            return
        stage = chain.stages.get(step.id)
        if stage is None:
            self.say("Switch the step on first: what it has learned is carried along.", bad=True)
            return

        def work(job: Job) -> Step:
            settings = step.tool.carried(step.settings, stage.analysis(job.progress), stage.rate)
            return replace(step, settings=settings, spans=None, holes=(), channels=None, id=new_id())

        def done(copied: object) -> None:
            self._copied = copied if isinstance(copied, Step) else None
            self.say(f"{step.tool.title} copied. Paste it into any recording (Ctrl+V).")

        self.job(work, f"Copying {step.tool.title}", done)

    @property
    def can_paste(self) -> bool:
        """Whether a step was copied."""
        return self._copied is not None and self.recording is not None

    def paste_step(self) -> None:
        """Add the copied step to the recording on the bench."""
        if self._copied is None or self.recording is None:
            return
        step = replace(self._copied, id=new_id())
        self.document.paste_step(self.recording.id, step)
        self.step_id = step.id
        self.emit("selection")

    def give_back(self) -> None:
        """Give the original back in the selection."""
        if self.recording is None or self.selection is None:
            self.say("Mark the words that shall come back as they were first.", bad=True)
            return
        if not self.document.give_back(self.recording.id, self.selection.span):
            self.say("No step acts in the marked stretch: it is the original already.")

    # -- listening

    def set_listening(self, listening: Listening) -> None:
        """Choose what is heard and seen."""
        if listening is not self.listening:
            self.listening = listening
            self.sync()
            self.emit("listening")

    def set_matched(self, matched: bool) -> None:  # noqa: FBT001 - the state itself
        """Match the level of After to Before, or not."""
        self.matched = matched
        self.sync()
        self.emit("listening")

    def set_pick(self, pick: str) -> None:
        """Listen to both channels as they are (""), or to one mixture of them; see PICKS."""
        self.pick = pick
        self.sync()
        self.emit("listening")
        if pick:
            self.say(f"Heard: {PICKS[pick][1]}. Pictures and files are not affected.")

    def toggle_only_band(self) -> None:
        """Hear the marked band alone, or everything again."""
        self.only_band = not self.only_band
        if self.only_band and (self.selection is None or self.selection.band_hz is None):
            self.only_band = False
            self.say("Mark a band in the sonogram first: drag over time and frequency.", bad=True)
        elif self.only_band and self.selection is not None and self.selection.band_hz is not None:
            low, high = self.selection.band_hz
            self.say(f"Heard: {low:.0f} to {high:.0f} Hz only. Pictures and files are not affected.")
        self.sync()
        self.emit("listening")

    def match_gain_db(self) -> float:
        """Gain on After that makes it as loud as Before; 0 until both are measured."""
        return self._desk.match_gain_db(self.current_id or "")

    def sync(self, *, same_place: bool = True) -> None:
        """Give the transport what is to be heard now."""
        source = self.heard_source
        if source is None:
            self.transport.set_material(None, same_place=same_place)
            return
        if self.pick and source.channels == 2:
            source = PickedSource(source, self.pick)
        band = self.selection.band_hz if self.selection else None
        if self.only_band and band is not None:
            source = BandSource(source, band)
        gain = 1.0
        if self.matched and self.listening is Listening.AFTER:
            gain = db_to_gain(self.match_gain_db())
        self.transport.set_material(Heard(source, gain), same_place=same_place)

    def play_or_stop(self) -> None:
        """Start from the selection or the play head, or stop."""
        if self.transport.is_playing:
            self.transport.stop()
        elif self.selection is not None and self.transport.loop is None:
            self.transport.play(self.selection.span.start, self.selection.span.stop)
        else:
            self.transport.play()
        self.emit("playing")

    def toggle_loop(self) -> None:
        """Repeat the selection, or everything when nothing is marked."""
        recording = self.recording
        if recording is None:
            return
        if self.transport.loop is not None:
            self.transport.loop = None
        else:
            whole = Span(0, recording.frames)
            self.transport.loop = self.selection.span if self.selection else whole
        self.emit("playing")

    def seek(self, frame: int) -> None:
        """Move the play head."""
        self.transport.seek(frame)
        self.emit("playing")

    def nudge(self, seconds: float) -> None:
        """Move the play head by a little."""
        if self.recording is not None:
            self.seek(max(0, self.transport.position + seconds_to_frames(seconds, self.recording.rate)))

    # -- measuring

    def measures(self, what: str, recording_id: str | None = None) -> Measures | None:
        """Measures of the whole recording "before" or "after", when they are known and current."""
        return self._desk.of(what, recording_id or self.current_id)

    def forget_measures(self) -> None:
        """Another project: measures of the last one are of no use."""
        self._desk.forget()

    def want_measures(self, recording_id: str | None = None) -> None:
        """Measure before and after in the background, unless they are known."""
        self._desk.want(recording_id or self.current_id)

    @property
    def targets(self) -> dict[str, Target]:
        """Shipped and own targets, as they were read last."""
        if not self._targets:
            self.read_targets()
        return self._targets

    @property
    def target(self) -> Target | None:
        """The project's target; None when it is not known on this machine."""
        return self.targets.get(self.document.project.target_id)

    def read_targets(self) -> None:
        """Read the target files again; damaged own ones are explained, the shipped ones stay."""
        try:
            self._targets = all_targets(config_folder("targets"))
        except PuliziaError as error:
            self._targets = all_targets()
            self.say(str(error), bad=True)

    # -- end

    def close(self) -> None:
        """Stop everything; nothing is left running."""
        self.transport.close()
        self.pool.close()

    def _measured(self) -> None:
        self.sync()
        self.emit("measures")

    def _document_changed(self) -> None:
        recording = self.recording
        if recording is None and self.document.project.recordings:
            self.choose_recording(self.document.project.recordings[0].id)
        elif recording is None and self.current_id is not None:
            self.choose_recording(None)
        elif recording is not None and self.step_id not in {s.id for s in recording.score}:
            self.step_id = recording.score[0].id if recording.score else None
        self.sync()
        self.want_measures()
        self.emit("document")


def _tidy_caches() -> None:
    for name, most_bytes in CACHE_LIMITS.items():
        prune(cache_folder(name), most_bytes)


def source_of(chain: Chain, listening: Listening) -> Source:
    """The Source that a listening choice means."""
    if listening is Listening.BEFORE:
        return chain.before
    return chain.after if listening is Listening.AFTER else chain.removed


# SPDX-License-Identifier: GPL-3.0-or-later
"""What a tool is: a record of pure functions over typed settings."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, Literal, NamedTuple, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.moments import overlaps_any
from pulizia.measure.moment_spectra import moment_spectra
from pulizia.settings.declare import Settings
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.words import plural, tr

S = TypeVar("S", bound=Settings)
A = TypeVar("A")
"""What a tool learns."""
Family = Literal["steady", "moments", "tone", "level", "edits"]
FAMILIES: dict[Family, str] = {
    "steady": "Steady noise", "moments": "Short events", "tone": "Tone and room", "level": "Level and dynamics", "edits": "Small edits",
}  # fmt: skip
"""What a tool is for, in the words of menus and manual."""
Progress = Callable[[float], None]


class Margin(NamedTuple):
    """Context in frames that a tool wants before and after what it works on."""

    before: int
    after: int


@dataclass(frozen=True, slots=True)
class Block:
    """A stretch with its context. Samples outside the recording are silence."""

    samples: Samples  # (channels, frames)
    start: int  # the recording's frame at samples[:, 0]; negative in the context before frame 0
    rate: int  # Hz


@dataclass(frozen=True, slots=True)
class Curve:
    """One line of a tool's picture: levels over frequency."""

    name: str
    hz: NDArray[np.floating]
    level_db: NDArray[np.floating]


@dataclass(frozen=True, slots=True)
class Picture:
    """What a sheet draws for a tool: curves over frequency on one dB axis, and a caption."""

    curves: tuple[Curve, ...]
    unit: str
    caption: str
    from_zero: bool = False  # an axis from 0 up instead of levels in dB


@dataclass(frozen=True, slots=True)
class Table:
    """A small list for the sheet; cells are words."""

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True, slots=True)
class LaneCurve:
    """Levels over time, for a strip or the waveform."""

    name: str
    step: int  # frames between two values, from frame 0
    level_db: NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Handle:
    """A dot on a curve over the waveform that can be moved."""

    frame: int
    level_db: float


@dataclass(frozen=True, slots=True)
class Sample:
    """A stretch in frames that a tool has learned from, with its level in dBFS."""

    start: int
    stop: int
    level_db: float
    by_hand: bool


@dataclass(frozen=True, slots=True)
class Survey:
    """What a tool finds in the sound that reaches it, at the present settings."""

    sentence: str
    marks: tuple[Mark, ...] = ()
    table: Table | None = None
    lane: tuple[tuple[int, int], ...] = ()  # stretches in frames that a strip shows as a line: an open gate
    curves: tuple[LaneCurve, ...] = ()  # what a strip shows hanging from its upper edge: gain reduction
    handles: tuple[Handle, ...] = ()  # dots on the first curve that the person may move
    samples: tuple[Sample, ...] = ()  # where the tool has learned what it removes
    edges: tuple[int, ...] = ()  # frames at which sections begin, after the first
    count: int = 0  # samples, where places hold several
    stands_first: bool = False  # the sentence comes before all else in the sheet: the step does nothing here


def moments_survey(
    found: Sequence[tuple[int, int]],
    spans: Sequence[Span],
    left_s: Sequence[tuple[float, float]],
    rate: int,
    sentence: tuple[str, str],
    none: str,
    done: str,
) -> Survey:
    """Ticks and counts for tools that treat short stretches; those that are left alone are off."""
    inside = [s for s in found if not spans or any(span.overlaps(*s) for span in spans)]
    marks = tuple(
        Mark(a, b, tr("{length:.0f} ms", length=1000 * (b - a) / rate), on=not overlaps_any((a, b), left_s, rate))
        for a, b in inside
    )
    on = sum(m.on for m in marks)
    words = plural(*sentence, len(marks), on=on) if marks else none
    return Survey(
        words, marks, Table(("", ""), ((tr("found"), str(len(marks))), (done, str(on)))), stands_first=not marks
    )


def moments_picture(
    passage: Samples | None, rate: int, moments: Sequence[tuple[int, int]], here: tuple[str, str], none: str
) -> Picture:
    """The passage, and the mean of the moments in it."""
    if passage is None or not passage.shape[1]:
        return Picture((Curve("passage", np.array([40.0, 20_000.0]), np.full(2, -160.0)),), "dBFS", "")
    hz, whole, found = moment_spectra(passage, rate, moments)
    curves = [Curve("passage", hz, whole)]
    if found is None:
        return Picture(tuple(curves), "dBFS", none)
    curves.append(Curve("lines", hz, found))
    return Picture(
        tuple(curves),
        "dBFS",
        plural(*here, len(moments)),
    )


@dataclass(frozen=True, slots=True)
class Suggestion:
    """Settings that fit the sound, and why in one sentence."""

    changes: dict[str, Any]
    sentence: str


class Stream(Protocol):
    """A process that runs forward."""

    def take(self, first: int, last: int) -> Samples:
        """What it gives for [first, last)."""
        ...


def _nothing_to_learn(_source: Source, _spans: Sequence[Span], _settings: Any, _progress: Progress) -> Any:  # noqa: ANN401
    return None


def _all_of_it(analysis: Any, _passage: Span) -> Any:  # noqa: ANN401 - each tool's own
    return analysis


def _no_places(_settings: Any, _rate: int) -> tuple[Span, ...]:  # noqa: ANN401
    return ()


def _as_they_are(settings: S, _analysis: Any, _rate: int) -> S:  # noqa: ANN401
    return settings


def _always(_settings: Any, _name: str) -> bool:  # noqa: ANN401
    return True


def _no_margin(_settings: Any, _rate: int) -> Margin:  # noqa: ANN401
    return Margin(0, 0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Tool(Generic[S, A]):
    """One kind of repair.

    Attributes
    ----------
    id
        Word in files, recipes and the command line; never changes.
    family
        Under which head it is listed.
    order
        Where a new step of this tool belongs in a score: smaller comes first.
    process
        ``process(block, settings, analysis) -> samples`` of the block's shape. Pure. Frame n in is
        frame n out; any inner grid is anchored to the recording's frame 0.
    margin
        Context that ``process`` wants around what will be used of its result.
    analyse
        Looks at the step's input once; the result is cached until what it depends on changes.
    analysis_places
        Which stretches of the input ``analyse`` looks at; None for the whole of it.
    analysis_fields
        Names of the settings on which the analysis depends.
    sets_level
        True for tools whose whole purpose is loudness: giving back the original keeps them.
    shapes_tone
        True for tools that change the voice on purpose: what they take is no harm.
    takes_room
        True for tools that take out what the room adds: that is no part of the voice when harm is measured.
    carried
        The settings as another recording can use them: what was learned travels in them.
    picture, analysis_around
        The curves that the sheet shows, or None; and what of the analysis holds in the passage that they are of.
    survey
        ``survey(source, after, spans, settings, analysis, progress)`` looks through the input (and
        what the step makes of it, where that is to be compared), or None.
    suggest
        ``suggest(source, spans, settings, progress)`` finds settings that fit the input, or None.
    problems
        The kinds of problem that ``find`` may report.
    find
        ``find(source, progress)`` says what is wrong with a recording that this tool treats, or None.
    stream, mix
        For tools whose result at a moment depends on everything since a start: ``stream(read, rate,
        channels, start, analysis)`` makes an object whose ``take(first, last)`` runs forward, and
        ``mix(samples, taken, settings)`` applies what it gave. Units of UNIT_CHUNKS chunks begin anew.
    skip_field
        The setting (stretches in seconds) whose moments are left alone, for tools with marks.
    handle_field
        The setting ((seconds, dB), ...) that keeps where handles were moved to.
    applies
        Whether a setting (by name) has a say in the way that was chosen.
    fills_silence
        True for tools that put sound where there was none, on purpose.
    sample_field, reject_field
        The settings (stretches in seconds) that hold what the tool shall learn from, and what it shall not.
    edge_field
        The setting ((start, stop) in seconds, one after the other) that holds its sections where they were moved.
    other_field
        The setting (a fingerprint) that names another recording of the project. That recording, at the
        rate of the one worked on, is then what ``process`` and ``survey`` get for an analysis; None where
        it is not open.
    relates_channels
        True for tools that are about several channels together. All others hear, in a step for some channels, these alone.
    begins_with
        Settings of a step that a person adds in the window, where they differ from the defaults.
    strength_field
        The number that says how far the tool goes: a smaller one does less.
    """

    id: str
    title: str
    summary: str
    settings: type[S]
    order: int
    family: Family = "edits"
    process: Callable[[Block, S, A], Samples]
    caption: Callable[[S], str]
    version: int = 1
    margin: Callable[[S, int], Margin] = _no_margin
    analyse: Callable[[Source, Sequence[Span], S, Progress], A] = _nothing_to_learn
    analysis_places: Callable[[S, int], tuple[Span, ...] | None] = _no_places
    analysis_fields: tuple[str, ...] = ()
    sets_level: bool = False
    shapes_tone: bool = False
    takes_room: bool = False
    carried: Callable[[S, A, int], S] = _as_they_are
    picture: Callable[[Samples | None, int, S, A], Picture] | None = None
    analysis_around: Callable[[A, Span], A] = _all_of_it
    survey: Callable[[Source, Source, Sequence[Span], S, A, Progress], Survey] | None = None
    suggest: Callable[[Source, Sequence[Span], S, Progress], Suggestion] | None = None
    problems: tuple[Problem, ...] = ()
    find: Callable[[Source, Progress], Sequence[Finding]] | None = None
    stream: Callable[[Callable[[int, int], Samples], int, int, int, A], Stream] | None = None
    mix: Callable[[Samples, Samples, S], Samples] | None = None
    skip_field: str = ""
    handle_field: str = ""
    applies: Callable[[S, str], bool] = _always
    fills_silence: bool = False
    other_field: str = ""
    relates_channels: bool = False
    begins_with: Mapping[str, Any] = field(default_factory=dict)
    strength_field: str = ""
    sample_field: str = ""
    reject_field: str = ""
    edge_field: str = ""

    @property
    def learns(self) -> bool:
        """Whether it learns from the sound that it works on."""
        return self.analyse is not _nothing_to_learn or self.stream is not None


AnyTool = Tool[Any, Any]

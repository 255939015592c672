"""What a tool is: a record of pure functions over typed settings."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Generic, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.settings.declare import Settings

S = TypeVar("S", bound=Settings)
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


def _nothing_to_learn(_source: Source, _spans: Sequence[Span], _settings: Any, _progress: Progress) -> None:  # noqa: ANN401
    return None


def _no_places(_settings: Any, _rate: int) -> tuple[Span, ...]:  # noqa: ANN401
    return ()


def _as_they_are(settings: S, _analysis: Any, _rate: int) -> S:  # noqa: ANN401
    return settings


def _no_margin(_settings: Any, _rate: int) -> Margin:  # noqa: ANN401
    return Margin(0, 0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Tool(Generic[S]):
    """One kind of repair.

    Attributes
    ----------
    id
        Word in files, recipes and the command line; never changes.
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
    carried
        The settings as another recording can use them: what was learned travels in them.
    picture
        The curves that the sheet shows, or None.
    """

    id: str
    title: str
    summary: str
    settings: type[S]
    order: int
    process: Callable[[Block, S, Any], Samples]
    caption: Callable[[S], str]
    version: int = 1
    margin: Callable[[S, int], Margin] = _no_margin
    analyse: Callable[[Source, Sequence[Span], S, Progress], Any] = _nothing_to_learn
    analysis_places: Callable[[S, int], tuple[Span, ...] | None] = _no_places
    analysis_fields: tuple[str, ...] = ()
    sets_level: bool = False
    carried: Callable[[S, Any, int], S] = _as_they_are
    picture: Callable[[Samples | None, int, S, Any], Picture] | None = None


AnyTool = Tool[Any]

# SPDX-License-Identifier: GPL-3.0-or-later
"""A score as a chain of Sources: each stage renders on a fixed grid of chunks, on demand."""

from __future__ import annotations

import itertools
import threading
from collections import OrderedDict, defaultdict
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import ChannelsSource, DifferenceSource, Source, content_key, made_key, read_padded
from pulizia.audio.spans import edge_weight
from pulizia.dsp.band_pass import half_length, in_band
from pulizia.media.resample import at_rate
from pulizia.score.cache import ChunkCache
from pulizia.score.runs import CHUNK_FRAMES, Runs
from pulizia.score.steps import Step
from pulizia.tools.base import Block, Progress
from pulizia.units import ms_to_frames

EDGE_FADE_MS = 10.0
MOST_ANALYSES = 48
_serials = itertools.count()
GROUP_CHUNKS = 6  # made in one go by tools that want much context: it is looked at once for all of them
WIDE_CONTEXT_S = 0.4
MOST_KEPT_KEYS = 1 << 12  # a stage never changes, so neither do its keys; views ask often


class Learner(Protocol):
    """What can learn from its sound."""

    def learn(self, progress: Progress) -> Any:  # noqa: ANN401 - each tool's own
        """Make the analysis; may take long."""
        ...


class AnalysisStore:
    """What tools have learned, by key; each analysis is made once even when two threads ask.

    The newest MOST_ANALYSES are kept: some hold the sound that they learned from.
    """

    def __init__(self) -> None:
        self._known: OrderedDict[str, Any] = OrderedDict()
        self._locks: dict[str, threading.Lock] = {}
        self._lock = threading.Lock()

    def get(self, key: str, learner: Learner, progress: Progress) -> Any:  # noqa: ANN401 - each tool's own
        """The analysis under ``key``, made by the learner when unknown."""
        with self._lock:
            lock = self._locks.setdefault(key, threading.Lock())
        with lock:
            if key not in self._known:
                learned = learner.learn(progress)
                with self._lock:
                    self._known[key] = learned
                    while len(self._known) > MOST_ANALYSES:
                        self._locks.pop(self._known.popitem(last=False)[0], None)
                return learned
            with self._lock:
                if key in self._known:
                    self._known.move_to_end(key)
                    return self._known[key]
        return self.get(key, learner, progress)  # it left between two looks

    def has(self, key: str) -> bool:
        """Whether the analysis is there already."""
        return key in self._known


def heard_by(step: Step, upstream: Source) -> Source:
    """What the tool of a step hears of the sound that reaches it: the channels that it is for, each microphone alone."""
    if step.channels is None or step.tool.relates_channels:
        return upstream
    taken = [c for c in step.channels if c < upstream.channels]
    return ChannelsSource(upstream, taken) if taken and taken != list(range(upstream.channels)) else upstream


class Stage:
    """A step's output as a Source over the Source before it.

    Attributes
    ----------
    heard : what the step's tool hears and works on, all channels or those of the step
    serial : its own number, for those that cannot wait for the key of an assembly
    """

    def __init__(
        self, upstream: Source, step: Step, cache_: ChunkCache, store: AnalysisStore, other: Source | None = None
    ) -> None:
        self.upstream, self.step, self._other = upstream, step, other
        self.serial = next(_serials)
        self.heard = heard_by(step, upstream)
        self.rate, self.channels, self.frames = upstream.rate, upstream.channels, upstream.frames
        self.cache, self._store = cache_, store
        self._keys: dict[tuple[int, int], str] = {}
        self._spans = step.acts_in(self.frames)
        self._step_key = step.content_key()
        margin = step.tool.margin(step.settings, self.rate)
        extra = half_length(self.rate) if step.band_hz else 0
        grid = 4096  # keeps tools' inner grids on the recording's frame 0
        self._before = -(-(margin.before + extra) // grid) * grid
        self._after = margin.after + extra
        self._runs = Runs(self) if step.tool.stream is not None else None
        wide = margin.before + margin.after > WIDE_CONTEXT_S * self.rate
        self._group = GROUP_CHUNKS if wide and self._runs is None else 1
        self._making: defaultdict[int, threading.Lock] = defaultdict(threading.Lock)  # one for each group of chunks

    @cached_property
    def key(self) -> str:
        """Changes exactly when the content may have changed; made when it is asked for, as that of an assembly takes long."""
        other = self._other.key if self._other is not None else ""
        return content_key("stage", self.upstream.key, self._step_key, other)

    def made_key(self) -> str | None:
        """The key, where that takes no time."""
        return self.key if made_key(self.upstream) is not None else None

    @cached_property
    def _analysis_key(self) -> str:
        return self._make_analysis_key()

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch: that of the upstream where the step does not act."""
        known = self._keys.get((start, stop))
        if known is None:
            known = self._make_span_key(start, stop)
            if len(self._keys) < MOST_KEPT_KEYS:
                self._keys[start, stop] = known
        return known

    def _make_span_key(self, start: int, stop: int) -> str:
        first = start // CHUNK_FRAMES * CHUNK_FRAMES
        last = min(-(-stop // CHUNK_FRAMES) * CHUNK_FRAMES, self.frames)
        if not self._acts(start, stop):
            return self.upstream.span_key(start, stop)
        begin = first - self._before if self._runs is None else self._runs.begin(first)
        context = self.upstream.span_key(max(0, begin), min(self.frames, last + self._after))
        return content_key("stage", self._step_key, self._analysis_key, context, start, stop)

    @property
    def made(self) -> Source:
        """What the tool makes of what it hears, on the same channels."""
        return heard_by(self.step, self)

    def is_of(self, upstream: Source, step: Step, other: Source | None) -> bool:
        """Whether it is this step over this very Source, so that it can be used again."""
        return self.upstream is upstream and self._other is other and self.step.sounds_like(step)

    def analysis(self, progress: Progress = lambda _: None) -> Any:  # noqa: ANN401 - each tool's own
        """What the step's tool has learned from its input; may take long the first time."""
        return self._store.get(self._analysis_key, self, progress)

    def learn(self, progress: Progress) -> Any:  # noqa: ANN401 - each tool's own
        """Make the analysis."""
        if self.step.tool.other_field:
            return None if self._other is None else at_rate(self._other, self.rate, progress)
        return self.step.tool.analyse(self.heard, self._spans, self.step.settings, progress)

    @property
    def analysis_key(self) -> str:
        """Identity of what was or will be learned."""
        return self._analysis_key

    @property
    def is_analysed(self) -> bool:
        """Whether reading needs no analysis first."""
        return self._store.has(self._analysis_key)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        if not self._acts(start, stop):
            return self.upstream.read(start, stop)
        out = np.empty((self.channels, stop - start), dtype=np.float32)
        for index in range(start // CHUNK_FRAMES, -(-stop // CHUNK_FRAMES)):
            first, last = index * CHUNK_FRAMES, min((index + 1) * CHUNK_FRAMES, self.frames)
            a, b = max(start, first), min(stop, last)
            if self._acts(first, last):
                chunk = self.cache.get(self.span_key(first, last), lambda i=index: self._made(i))  # type: ignore[misc]
                out[:, a - start : b - start] = chunk[:, a - first : b - first]
            else:
                out[:, a - start : b - start] = self.upstream.read(a, b)
        return out

    def _acts(self, start: int, stop: int) -> bool:
        return any(span.overlaps(start, stop) for span in self._spans)

    def _make_analysis_key(self) -> str:
        tool, settings = self.step.tool, self.step.settings
        if tool.other_field:
            return content_key("other", self._other.key if self._other is not None else "", self.rate)
        places = tool.analysis_places(settings, self.rate)
        looked_at: object
        if places is None:
            looked_at = (self.heard.key, self._spans)
        else:
            looked_at = [self.heard.span_key(min(s.start, self.frames), min(s.stop, self.frames)) for s in places]
        values = [(name, getattr(settings, name)) for name in tool.analysis_fields]
        return content_key("analysis", tool.id, tool.version, values, looked_at)

    def _made(self, index: int) -> Samples:
        """One chunk; its neighbours of the same group are kept on the way where that saves work."""
        begin, end = index * CHUNK_FRAMES, min((index + 1) * CHUNK_FRAMES, self.frames)
        if self._group == 1:
            return self._render(begin, end)
        start = index // self._group * self._group
        with self._making[start]:  # two that want chunks of one group make it once
            known = self.cache.peek(self.span_key(begin, end))
            return known if known is not None else self._make_group(index, start)

    def _make_group(self, index: int, start: int) -> Samples:
        begin, end = index * CHUNK_FRAMES, min((index + 1) * CHUNK_FRAMES, self.frames)
        acting = [
            n
            for n in range(start, start + self._group)
            if n * CHUNK_FRAMES < self.frames and self._acts(n * CHUNK_FRAMES, min((n + 1) * CHUNK_FRAMES, self.frames))
        ]
        # what is wanted, and whatever joins it: a step that acts here and there is not made in between
        first = last = index
        while first - 1 in acting:
            first -= 1
        while last + 1 in acting:
            last += 1
        whole = self._render(first * CHUNK_FRAMES, min((last + 1) * CHUNK_FRAMES, self.frames))
        for n in range(first, last + 1):
            a, b = n * CHUNK_FRAMES, min((n + 1) * CHUNK_FRAMES, self.frames)
            if n != index:
                self.cache.put(
                    self.span_key(a, b), whole[:, a - first * CHUNK_FRAMES : b - first * CHUNK_FRAMES].copy()
                )
        return np.ascontiguousarray(whole[:, begin - first * CHUNK_FRAMES : end - first * CHUNK_FRAMES])

    def _render(self, first: int, last: int) -> Samples:
        step = self.step
        if self._runs is not None and step.tool.mix is not None and step.band_hz is None:
            dry = self.heard.read(first, last)
            wet = step.tool.mix(dry, self._runs.taken(first, last), step.settings)
        else:
            start, stop = first - self._before, last + self._after
            block = Block(read_padded(self.heard, start, stop), start, self.rate)
            dry = block.samples[:, self._before : self._before + last - first]
            wet = step.tool.process(block, step.settings, self.analysis())
            if step.band_hz is not None:
                wet = block.samples + in_band(wet - block.samples, step.band_hz, self.rate)
            wet = wet[:, self._before : self._before + last - first]
        fade = ms_to_frames(EDGE_FADE_MS, self.rate)
        weight = edge_weight(self._spans, first, last, fade=fade, frames=self.frames)
        if step.channels is None and weight.all() and weight.min() == 1.0:
            return _finite(np.ascontiguousarray(wet, dtype=np.float32))
        apart = self.heard is not self.upstream
        out = (self.upstream.read(first, last) if apart else dry).copy()
        whole, partly = weight == 1.0, (weight > 0.0) & (weight < 1.0)
        wanted = [c for c in (range(self.channels) if step.channels is None else step.channels) if c < self.channels]
        for number, channel in enumerate(wanted):
            place = number if apart else channel
            out[channel, whole] = wet[place, whole]
            out[channel, partly] += weight[partly] * (wet[place, partly] - dry[place, partly])
        return _finite(out)


class Chain:
    """A recording's sound before, after, and what was removed, for one score."""

    def __init__(
        self, source: Source, steps: Sequence[Step], cache_: ChunkCache, store: AnalysisStore,
        others: Callable[[str], Source | None] = lambda _fingerprint: None, previous: Chain | None = None,
    ) -> None:  # fmt: skip
        """``previous`` is the chain that this one follows: stages up to the first change are taken over, with all they run."""
        self.before = source
        known = previous.stages if previous is not None else {}
        self.stages: dict[str, Stage] = {}
        self._inputs: dict[str, Source] = {}
        last: Source = source
        for step in steps:
            self._inputs[step.id] = last
            if step.enabled and step.acts_in(source.frames):
                other = others(step.other) if step.other else None
                stage = known.get(step.id)
                if stage is None or not stage.is_of(last, step, other):
                    stage = Stage(last, step, cache_, store, other)
                last = self.stages[step.id] = stage
        self.after: Source = last

    @property
    def takes_room(self) -> bool:
        """Whether one of its steps takes out what the room adds."""
        return any(stage.step.tool.takes_room for stage in self.stages.values())

    @property
    def removed(self) -> Source:
        """What the whole score takes away."""
        return DifferenceSource(self.before, self.after)

    def removed_by(self, step_id: str | None) -> Source:
        """What one step takes from the sound that reaches it; silence where it does not act or is not in the score."""
        stage = self.stages.get(step_id or "")
        if stage is None or step_id is None:
            return DifferenceSource(self.before, self.before)
        return DifferenceSource(self._inputs[step_id], stage)

    def input_of(self, step_id: str) -> Source:
        """The sound that reaches a step."""
        return self._inputs[step_id]

    def prepare(self, progress: Progress = lambda _: None) -> None:
        """Let every step learn what it needs, first to last. ``progress`` may raise to stop."""
        stages = list(self.stages.values())
        for n, stage in enumerate(stages):
            stage.analysis(lambda part, n=n: progress((n + part) / len(stages)))  # type: ignore[misc]
        progress(1.0)


def _finite(samples: Samples) -> Samples:
    """Samples with anything that is not a number silenced; a copy only where there is any."""
    if np.isfinite(samples).all():
        return samples
    return np.nan_to_num(samples, nan=0.0, posinf=0.0, neginf=0.0)

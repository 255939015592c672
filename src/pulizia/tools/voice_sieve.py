# SPDX-License-Identifier: GPL-3.0-or-later
"""Voice sieve: a trained model that knows speech takes everything else down.

DeepFilterNet3 (Schroter et al., "DeepFilterNet: Perceptually Motivated Real-Time Speech Enhancement",
Interspeech 2023). The recording is brought to a usual speech level before the model and back after
it, and to 48 kHz where it has another rate. What the model takes away is subtracted: at amount 0
every sample is as before.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, SpanSource
from pulizia.audio.spans import Span
from pulizia.errors import AnalysisError
from pulizia.measure.figures import active_speech_level
from pulizia.models.voice_net import DELAY, FRAME, RATE, VoiceNet, why_not
from pulizia.settings.declare import Settings, number
from pulizia.tools.base import Block, Progress, Suggestion, Tool
from pulizia.units import Unit, db_to_gain, format_number
from pulizia.words import tr

SPEECH_LEVEL_DBFS = -26.0
RUN_UP_S = 1.0
MOST_LISTENED_S = 300.0
CONTEXT = 512  # frames beside a stretch that the rate conversion wants
NO_LIMIT_DB = 60.0
USUAL_AMOUNT, USUAL_LEFT_DB = 0.7, -18.0  # the limit that is common practice for speech, at seven tenths of the scale


@dataclass(frozen=True, slots=True, kw_only=True)
class SieveSettings(Settings):
    """How much of what is not voice goes."""

    amount: float = number(
        0.7, unit=Unit.SHARE, low=0.0, high=1.0, step=0.01, label="Amount",
        help="How much of the non-voice sound is removed. 70 % leaves it 18 dB lower, with some of the room; 100 % leaves none.",
    )  # fmt: skip
    limit_db: float = number(
        NO_LIMIT_DB, unit=Unit.DB, low=3.0, high=NO_LIMIT_DB, step=1.0, label="Limit",
        help="Largest reduction. 18 dB keeps a natural room; the highest value is no limit.",
    )  # fmt: skip


def analyse(source: Source, spans: Sequence[Span], settings: SieveSettings, progress: Progress) -> float:
    """Gain that brings the speech to the model's level."""
    del spans, settings
    if sentence := why_not():
        raise AnalysisError(sentence)
    start = max(0, (source.frames - round(MOST_LISTENED_S * source.rate)) // 2)
    stop = min(source.frames, start + round(MOST_LISTENED_S * source.rate))
    level, _ = active_speech_level(SpanSource(source, start, stop))
    progress(1.0)
    if level is None:
        return 1.0
    return db_to_gain(min(max(SPEECH_LEVEL_DBFS - level, -30.0), 70.0))


class SieveStream:
    """What the model takes away, piece by piece from a fixed start: one object per unit of the recording.

    Parameters
    ----------
    read
        Reads padded stretches of the input.
    start
        First frame that will be asked for.
    """

    def __init__(self, read: Callable[[int, int], Samples], rate: int, channels: int, start: int, gain: float) -> None:
        self._read, self._rate, self._gain = read, rate, np.float32(gain)
        shared = math.gcd(rate, RATE)
        self._up, self._down = RATE // shared, rate // shared
        self._origin = (start - round(RUN_UP_S * rate)) // self._down * self._down
        self._nets = [VoiceNet() for _ in range(channels)]
        self._fed = 0  # 48 kHz samples given to the model
        self._kept_from = 0
        self._input = np.zeros((channels, 0), dtype=np.float32)  # 48 kHz, from _kept_from
        self._output = np.zeros((channels, 0), dtype=np.float32)  # the model's, delay taken off

    def take(self, first: int, last: int) -> Samples:
        """What is taken away in [first, last); calls run forward."""
        low = (first - self._origin) // self._down * self._up - CONTEXT * self._up
        high = -(-(last - self._origin) // self._down) * self._up + CONTEXT * self._up
        self._advance(max(0, high))
        low = max(self._kept_from, low // self._up * self._up)
        a, b = low - self._kept_from, high - self._kept_from
        taken = self._input[:, a:b] - self._output[:, a:b]
        share = self._treble_share(self._input[:, a:b], self._output[:, a:b]) if self._rate > RATE else None
        self._forget(low)
        if self._up == self._down:
            offset = first - self._origin - low
            return np.asarray(taken[:, offset : offset + last - first])
        from scipy.signal import resample_poly

        back = resample_poly(taken, self._down, self._up, axis=1).astype(np.float32)
        start = low // self._up * self._down + self._origin
        made = back[:, first - start : last - start]
        if share is not None:
            made = made + self._treble(share, start, first, last)
        return np.asarray(made)

    def _advance(self, until: int) -> None:
        """Feed the model until its answer reaches a 48 kHz index."""
        count = -(-(until + DELAY - self._fed) // FRAME) * FRAME
        if count <= 0:
            return
        x = self._at_48k(self._fed, self._fed + count)
        y = np.stack([net.feed(row * self._gain) for net, row in zip(self._nets, x, strict=True)]) / self._gain
        late = max(0, DELAY - self._fed)  # the first answers belong to what was before the start
        self._input = np.concatenate([self._input, x], axis=1)
        self._output = np.concatenate([self._output, y[:, late:]], axis=1)
        self._fed += count

    def _at_48k(self, low: int, high: int) -> Samples:
        if self._up == self._down:
            return self._read(self._origin + low, self._origin + high)
        from scipy.signal import resample_poly

        begin = low // self._up - CONTEXT
        end = -(-high // self._up) + CONTEXT
        block = self._read(self._origin + begin * self._down, self._origin + end * self._down)
        made = resample_poly(block, self._up, self._down, axis=1).astype(np.float32)
        return np.asarray(made[:, low - begin * self._up : high - begin * self._up])

    def _forget(self, low: int) -> None:
        keep = max(0, low - self._kept_from - 4 * CONTEXT * self._up)
        self._input, self._output = self._input[:, keep:], self._output[:, keep:]
        self._kept_from += keep

    @staticmethod
    def _treble_share(before: Samples, after: Samples) -> NDArray[np.float64]:
        """Share of the highest octave of 48 kHz that the model takes away, per 10 ms."""
        count = before.shape[1] // FRAME

        def power(x: Samples) -> NDArray[np.float64]:
            slope = np.diff(x, n=3, axis=1, prepend=x[:, :1].repeat(3, axis=1))[:, : count * FRAME]
            return np.asarray((slope.reshape(len(x), count, FRAME) ** 2).mean(axis=(0, 2)) + 1e-20)

        kept = np.sqrt(np.minimum(power(after) / power(before), 1.0))
        padded = np.pad(kept, 2, mode="edge")
        return np.asarray(1.0 - np.convolve(padded, np.full(5, 0.2), mode="valid"))

    def _treble(self, share: NDArray[np.float64], start: int, first: int, last: int) -> Samples:
        """What goes above the model's reach, lowered as the model lowers the highest octave it knows."""
        from scipy.signal import resample_poly

        lead = 64 * self._down
        block = self._read(first // self._down * self._down - lead, -(-last // self._down) * self._down + lead)
        low = resample_poly(resample_poly(block, self._up, self._down, axis=1), self._down, self._up, axis=1)
        cut = first - (first // self._down * self._down - lead)
        high = (block - low)[:, cut : cut + last - first]
        at = (np.arange(first, last) - start) * RATE / self._rate / FRAME - 0.5
        return np.asarray(high * np.interp(at, np.arange(len(share)), share), dtype=np.float32)


def stream(read: Callable[[int, int], Samples], rate: int, channels: int, start: int, gain: float) -> SieveStream:
    """A fresh stream for a unit of the recording."""
    return SieveStream(read, rate, channels, start, gain)


def share_of(settings: SieveSettings) -> float:
    """Share of what the model takes that is really taken: USUAL_AMOUNT leaves USUAL_LEFT_DB of it."""
    bend = USUAL_LEFT_DB / (20.0 * math.log10(1.0 - USUAL_AMOUNT))
    limited = 1.0 if settings.limit_db >= NO_LIMIT_DB else 1.0 - db_to_gain(-settings.limit_db)
    return float(1.0 - (1.0 - settings.amount) ** bend) * limited


def process(block: Block, settings: SieveSettings, gain: float) -> Samples:
    """A stretch by itself, from a fresh start: what a stream gives where it begins."""
    made = SieveStream(lambda a, b: _padded(block, a, b), block.rate, len(block.samples), block.start, gain)
    taken = made.take(block.start, block.start + block.samples.shape[1])
    return mix(block.samples, taken, settings)


def mix(samples: Samples, taken: Samples, settings: SieveSettings) -> Samples:
    """The input less the chosen share of what the model takes."""
    return np.asarray(samples - np.float32(share_of(settings)) * taken, dtype=np.float32)


def _padded(block: Block, start: int, stop: int) -> Samples:
    out = np.zeros((len(block.samples), stop - start), dtype=np.float32)
    a, b = max(start, block.start), min(stop, block.start + block.samples.shape[1])
    if b > a:
        out[:, a - start : b - start] = block.samples[:, a - block.start : b - block.start]
    return out


def caption(settings: SieveSettings) -> str:
    """Short text on the strip."""
    amount = f"{format_number(100.0 * settings.amount, 0)} %"
    if settings.limit_db >= NO_LIMIT_DB:
        return amount
    return tr("{amount}, at most {limit_db} dB", amount=amount, limit_db=format_number(settings.limit_db, 0))


def suggest(source: Source, spans: Sequence[Span], settings: SieveSettings, progress: Progress) -> Suggestion:
    """A limit that leaves some room where the noise is low already."""
    from pulizia.measure.speech_activity import speech_to_noise_db

    del spans, settings
    snr = speech_to_noise_db(source, progress)
    if snr is None:
        return Suggestion({}, tr("Speech does not stand out from the noise here; nothing was changed."))
    limit = float(np.clip(round(48.0 - snr), 6.0, 30.0))
    return Suggestion(
        {"amount": 1.0, "limit_db": limit},
        tr("Speech is {snr} dB above the noise: limited to {limit:.0f} dB.", snr=format_number(snr, 0), limit=limit),
    )


TOOL = Tool(
    id="voice_sieve",
    title="Voice sieve",
    summary="Isolates the voice with a trained model.",
    settings=SieveSettings,
    order=45,
    version=2,
    family="steady",
    strength_field="amount",
    process=process,
    caption=caption,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    suggest=suggest,
    stream=stream,
    mix=mix,
)

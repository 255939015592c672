# SPDX-License-Identifier: GPL-3.0-or-later
"""Room tone: the room's own quiet sound, made anew, where the recording is silent or turned down.

The tone is Gaussian noise drawn for each section of the recording from its own seed, so that it never
repeats and is the same whatever is read first; its spectrum and the likeness of its sides are those of the
quiet passages it was learned from (shaping by the transform of the mean cross-spectra, common practice).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span, clipped, normalised
from pulizia.dsp.fourier import irfft, rfft
from pulizia.dsp.moments import merged, runs
from pulizia.dsp.stft import hann_window
from pulizia.errors import AnalysisError
from pulizia.measure.noise_floor import SHORTEST_MS, quiet_spans
from pulizia.settings.declare import Settings, Stretches, choice, number, places
from pulizia.tools.base import Block, Curve, Margin, Picture, Progress, Survey, Table, Tool
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import Unit, db_to_gain, format_number, format_time, power_to_db, powers_to_db
from pulizia.words import plural, tr

SIZE, GRAIN = 4096, 16_384  # frames of a filter, and of the noise that is drawn at once
LEVEL_MS, CROSS_MS = 40.0, 40.0
UNDER_DB = 6.0  # the sound must lie this far under the tone before any is added


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomToneSettings(Settings):
    """Where the tone is put, and how loud."""

    way: str = choice(
        "fill", options={"fill": "fills gaps", "under": "lies under everything", "replace": "replaces the sound"},
        label="Mode", help="Fill gaps and gated pauses, lie under everything, or replace the selection.",
    )  # fmt: skip
    level_db: float = number(
        0.0, unit=Unit.DB, low=-24.0, high=12.0, step=0.5, label="Level",
        help="Level relative to the learned room tone.",
    )  # fmt: skip
    profile_spans_s: Stretches = places(
        label="Room tone sample", help="Where only the room is heard. Without one, the quietest passages are used.",
    )  # fmt: skip


@dataclass(frozen=True, slots=True, eq=False)
class Room:
    """A room's quiet sound: a shaping filter from each source of noise to each channel.

    Attributes
    ----------
    shape : (channels, channels, SIZE // 2 + 1) complex64, lower triangular
    power : mean square, all channels averaged
    density : (SIZE // 2 + 1,) mean power per bin, for the picture
    """

    shape: NDArray[np.complex64]
    power: float
    density: NDArray[np.float64]


def analyse(source: Source, spans: Sequence[Span], settings: RoomToneSettings, progress: Progress) -> Room:
    """Learn the spectra of all channels, and what they have in common."""
    del spans
    rate = source.rate
    marked = tuple(Span(round(a * rate), round(b * rate)) for a, b in settings.profile_spans_s)
    try:
        where = clipped(marked, source.frames) if marked else quiet_spans(source)
    except AnalysisError:  # nothing sounds anywhere: there is no room, and nothing to fill with
        return _no_room(source.channels)
    if not where or 1000.0 * sum(s.frames for s in where) / rate < SHORTEST_MS:
        message = tr(
            "The room tone sample is too short or outside the recording. Select half a second where only the room is heard."
        )
        raise AnalysisError(message)
    cross = np.zeros((source.channels, source.channels, SIZE // 2 + 1), dtype=np.complex128)
    window, count, power, frames = hann_window(SIZE), 0, 0.0, 0
    for span in where:
        block = source.read(span.start, span.stop)
        power += float(np.sum(block.astype(np.float64) ** 2))
        frames += block.size
        if block.shape[1] < SIZE:
            block = np.pad(
                block, ((0, 0), (0, SIZE - block.shape[1])), mode="reflect" if block.shape[1] > SIZE // 2 else "wrap"
            )
        for start in range(0, block.shape[1] - SIZE + 1, SIZE // 4):
            spectrum = rfft(block[:, start : start + SIZE] * window)
            cross += spectrum[:, None] * np.conj(spectrum[None])
            count += 1
    progress(1.0)
    if power <= 0.0:
        message = tr("The room tone sample is digital silence. Select a section where the room is heard.")
        raise AnalysisError(message)
    cross /= count * float((window**2).sum())
    for row in cross.reshape(-1, SIZE // 2 + 1):
        row[:] = _calm(row)
    density = np.real(np.einsum("ccb->b", cross)) / source.channels
    return Room(_triangle(cross), power / max(1, frames), density)


def _no_room(channels: int) -> Room:
    """Of a recording that holds no sound."""
    nothing = np.zeros((channels, channels, SIZE // 2 + 1), dtype=np.complex64)
    return Room(nothing, 0.0, np.zeros(SIZE // 2 + 1))


def _calm(row: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """Neighbouring bins averaged, wider with rising frequency: a short look does not fix single bins."""
    sums = np.concatenate([[0.0], np.cumsum(row)])
    k = np.arange(len(row))
    half = np.minimum(1 + k // 24, 40)
    low, high = np.maximum(k - half, 0), np.minimum(k + half + 1, len(row))
    return np.asarray((sums[high] - sums[low]) / (high - low))


def _triangle(cross: NDArray[np.complex128]) -> NDArray[np.complex64]:
    """Lower triangular L per bin with L L^H the cross-spectra (Cholesky, with a trace of independence)."""
    matrix = np.moveaxis(cross, 2, 0).copy()
    channels = matrix.shape[1]
    diagonal = np.real(np.einsum("bcc->bc", matrix))
    trace = 1e-6 * diagonal + 1e-6 * diagonal.mean(axis=1, keepdims=True) + 1e-20
    # quiet bins beside loud ones: what is left of them after sums and differences may not be positive
    lacking = np.maximum(0.0, -1.01 * np.linalg.eigvalsh(matrix)[:, :1])
    matrix[:, range(channels), range(channels)] += trace + lacking
    return np.moveaxis(np.linalg.cholesky(matrix), 0, 2).astype(np.complex64)


def tone(room: Room, start: int, stop: int) -> Samples:
    """The room's sound for frames of the recording, the same however it is asked for."""
    channels = len(room.shape)
    first, last = (start - SIZE) // GRAIN, (stop - 1) // GRAIN
    noise = np.stack(
        [
            np.random.default_rng((0x700E, index + 16)).standard_normal((channels, GRAIN), dtype=np.float32)
            for index in range(first, last + 1)
        ]
    )
    # each seed is shaped by a filter of its own length and added with its neighbour's tail (overlap-add)
    size = GRAIN + SIZE
    if channels == 1:
        shaped = rfft(noise, size) * _filters(room)[0]
    else:
        shaped = np.einsum("dcb,ncb->ndb", _filters(room), rfft(noise, size))
    out = np.zeros((channels, len(noise) * GRAIN + SIZE), dtype=np.float32)
    for n, part in enumerate(irfft(shaped, size)):
        out[:, n * GRAIN : n * GRAIN + size] += part
    begin = start - first * GRAIN
    return out[:, begin : begin + stop - start]


@lru_cache(maxsize=8)
def _filters(room: Room) -> NDArray[np.complex64]:
    """Spectra of the shaping filters, (channels, channels, bins)."""
    taps = np.roll(irfft(room.shape, SIZE), SIZE // 2, axis=-1) * hann_window(SIZE)
    return np.asarray(rfft(taps, GRAIN + SIZE), dtype=np.complex64)


def process(block: Block, settings: RoomToneSettings, room: Room) -> Samples:
    """Put the tone where it belongs."""
    gain = np.float32(db_to_gain(settings.level_db))
    if settings.way != "fill":
        made = tone(room, block.start, block.start + block.samples.shape[1]) * gain
        return made if settings.way == "replace" else block.samples + made
    missing = missing_share(block, room, settings)
    out = block.samples.copy()
    for first, last in merged(runs(missing > 0.0), SIZE):
        made = tone(room, block.start + first, block.start + last) * gain
        out[:, first:last] += made * np.sqrt(missing[first:last])
    return out


def missing_share(block: Block, room: Room, settings: RoomToneSettings) -> NDArray[np.float32]:
    """(frames,) 0..1: the part of the tone's power that the sound lacks."""
    step = max(1, round(LEVEL_MS * block.rate / 1000.0))
    first, last = -(-block.start // step), (block.start + block.samples.shape[1]) // step
    if last <= first:
        return np.zeros(block.samples.shape[1], dtype=np.float32)
    begin = first * step - block.start
    parts = block.samples[:, begin : begin + (last - first) * step].reshape(len(block.samples), last - first, step)
    power = np.einsum("cbn,cbn->b", parts, parts) / (len(block.samples) * step)
    wanted = room.power * db_to_gain(settings.level_db) ** 2
    lacking = np.where(power < wanted * 10.0 ** (-UNDER_DB / 10.0), 1.0 - power / max(wanted, 1e-20), 0.0)
    lacking[: max(0, -first)] = 0.0  # before the recording nothing is missing
    reach = max(1, round(CROSS_MS / LEVEL_MS / 2.0))
    kernel = np.hanning(2 * reach + 3)[1:-1]
    calm = np.convolve(lacking, kernel / kernel.sum(), mode="same")
    at = (np.arange(block.samples.shape[1]) + block.start) / step - first - 0.5
    return np.interp(at, np.arange(len(calm)), calm).astype(np.float32)


def margin(_settings: RoomToneSettings, rate: int) -> Margin:
    """Steps of the level and their cross-fade."""
    reach = round((2.0 * LEVEL_MS + CROSS_MS + 20.0) * rate / 1000.0)
    return Margin(reach, reach)


def caption(settings: RoomToneSettings) -> str:
    """Short text on the strip."""
    words = {"fill": tr("fill gaps"), "under": tr("under everything"), "replace": tr("replace")}[settings.way]
    return f"{words}, {format_number(settings.level_db, plus=True)} dB" if settings.level_db else words


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: RoomToneSettings, room: Room, progress: Progress
) -> Survey:
    """The level of the room."""
    del source, after, spans, progress
    if room.power <= 0.0:
        return Survey(tr("No passage was found in which the room is heard: nothing is filled."), stands_first=True)
    level = power_to_db(room.power) + settings.level_db
    return Survey(
        tr("The room lies at {level} dBFS.", level=format_number(level)),
        table=Table(("", ""), ((tr("level"), f"{format_number(level)} dBFS"),)),
    )


def picture(passage: Samples | None, rate: int, settings: RoomToneSettings, room: Room) -> Picture:
    """The spectrum of the room."""
    del passage
    hz = np.fft.rfftfreq(SIZE, 1.0 / rate)
    level = powers_to_db(room.density * 4.0 / SIZE) + settings.level_db
    return Picture((Curve("passage", hz, level),), "dBFS", tr("the room"))


SILENCE = Problem(kind="silence", mild=1.0, grave=10.0, unit="places", certainty=(1.0, 1.0))
DROPOUT_S, LOOK_S = 0.02, 20


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Digital silence inside the sound."""
    least, step = round(DROPOUT_S * source.rate), LOOK_S * source.rate
    silent: list[Span] = []
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        still = np.logical_not(source.read(begin, end).any(axis=0))
        silent += [Span(a + begin, b + begin) for a, b in _silences(still, least)]
        progress(end / source.frames)
    marks = [
        Mark(span.start, span.stop, tr("{frames:.0f} ms", frames=1000 * span.frames / source.rate))
        for span in normalised(silent)
        if span.frames >= least and span.start > 0 and span.stop < source.frames
    ]
    if not marks:
        return []
    words = plural(
        "Digital silence in 1 place, at {first}.",
        "Digital silence in {n} places, the first at {first}.",
        len(marks),
        first=format_time(marks[0].start / source.rate, 2),
    )
    return [SILENCE.found("room_tone", words, float(len(marks)), marks=marks)]


def _silences(still: NDArray[np.bool_], least: int) -> list[tuple[int, int]]:
    """Stretches that are long enough, and those that touch an end and may go on beyond it."""
    if still.all():
        return [(0, len(still))]
    first, last = int(np.argmin(still)), len(still) - int(np.argmin(still[::-1]))
    return [(0, first), *runs(still, at_least=least), (last, len(still))]


TOOL = Tool(
    id="room_tone",
    title="Room tone",
    summary="Fills silent or gated sections with the room's own sound.",
    settings=RoomToneSettings,
    order=80,
    family="edits",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda settings, rate: (
        None
        if not settings.profile_spans_s
        else tuple(Span(round(a * rate), round(b * rate)) for a, b in settings.profile_spans_s)
    ),
    analysis_fields=("profile_spans_s",),
    survey=survey,
    picture=picture,
    shapes_tone=True,
    fills_silence=True,
    problems=(SILENCE,),
    find=findings,
)

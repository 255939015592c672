# SPDX-License-Identifier: GPL-3.0-or-later
"""Room tail: late reverberation lowered, the direct voice kept.

First weighted prediction error takes away what the past of each bin predicts (``dsp.prediction_error``);
then what still rings is lowered by a ratio mask: a small net tells the share of each cell that is the direct voice
and its early reflections (``models.room_net``). The prediction is fitted anew every few seconds, so that an hour
needs no more memory than a minute.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.prediction_error import (
    DELAY_S,
    ITERATIONS,
    MOST_CHANNELS,
    TAPS_S,
    bins_of,
    frames_of,
    grid_of,
    predictors,
    without_tail,
)
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.dsp.stft import synthesise
from pulizia.measure.decay import Decays, decays_of
from pulizia.measure.room_share import AS_LOUD_DB, HEARD_DB, likely_t60_s, reverb_db
from pulizia.models import room_net
from pulizia.settings.declare import Settings, number
from pulizia.tools.base import (
    Block,
    Curve,
    Margin,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Table,
    Tool,
)
from pulizia.tools.finding import Finding, Problem
from pulizia.units import Unit, db_to_gain, format_number
from pulizia.words import tr

PIECE_S = 6.0  # one set of filters each; neighbours cross over CROSS_S
CROSS_S = 0.5
ABOVE_BINS = 40  # under the highest that is predicted: what lies above follows them
USUAL_T60_S = 0.5
STRENGTH = 3.0  # power of the mask at full amount: what is half a voice is lowered by 12 dB
DIRECT_SHARE = 0.55  # of a cell's amplitude, from which it is the direct voice
REACH_S, COMING_S = 0.42, 0.06  # of the net, into the past and ahead
KEPT_S, MOST_KEPT_DB = 0.2, 2.0  # how the direct voice keeps its level
MOST_PIECES = 64


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomTailSettings(Settings):
    """How far, how long and how smooth."""

    amount: float = number(
        0.8, unit=Unit.SHARE, low=0.0, high=1.0, step=0.05, label="Amount",
        help="Share of the reverb that is removed. Some room keeps a voice natural.",
    )  # fmt: skip
    reduction_db: float = number(
        24.0, unit=Unit.DB, low=0.0, high=36.0, step=0.5, label="Max. reduction",
        help="Reverb that remains after prediction is lowered by no more than this.",
    )  # fmt: skip
    tail_s: float | None = number(
        None, unit=Unit.SECONDS, low=0.1, high=5.0, step=0.05, scale="log", optional=True, label="Decay time (T60)",
        help="Time for 60 dB of decay; auto measures it after words.",
    )  # fmt: skip
    smoothing_ms: float = number(
        60.0, unit=Unit.MS, low=10.0, high=300.0, step=5.0, scale="log", label="Settling time", more=True,
        help="How fast the reduction follows the sound. Longer keeps the rest calm; shorter follows the voice.",
    )  # fmt: skip


@dataclass(slots=True)
class Room:
    """The decays of a recording, and the filters of the pieces that were asked for."""

    source: Source
    decays: Decays
    pieces: dict[int, NDArray[np.complex64]] = field(
        default_factory=dict
    )  # the newest last; the same whoever fits them


def analyse(source: Source, spans: Sequence[Span], _settings: RoomTailSettings, progress: Progress) -> Room:
    """Estimate the decay; filters are fitted when a piece is first heard."""
    del spans
    return Room(source, decays_of(source, progress))


def _groups(channels: int) -> list[list[int]]:
    """Channels that are predicted together; more are predicted one by one."""
    return [list(range(channels))] if channels <= MOST_CHANNELS else [[n] for n in range(channels)]


def _pieces(source: Source) -> int:
    """How many pieces there are: the last one takes what is left, up to half a piece more, for a short one fits anything."""
    _, hop = grid_of(source.rate)
    return max(1, round(source.frames / (round(PIECE_S * source.rate) // hop * hop)))


def filters_of(room: Room, piece: int) -> NDArray[np.complex64]:
    """(groups, bins, taps, channels of a group): the filters of one piece, fitted when first asked for."""
    known = room.pieces.get(piece)
    if known is not None:
        return known
    source = room.source
    size, hop = grid_of(source.rate)
    length = round(PIECE_S * source.rate) // hop * hop
    end = source.frames if piece == _pieces(source) - 1 else (piece + 1) * length
    samples = read_padded(source, piece * length - size, end + size)
    spectra = np.stack([spectra_of(channel, size, hop)[:, : bins_of(source.rate, size)] for channel in samples])
    made = []
    for group in _groups(source.channels):
        taps, delay = frames_of(source.rate, hop, len(group))
        made.append(predictors(spectra[group], taps=taps, delay=delay, iterations=ITERATIONS))
    filters = np.stack(made)
    room.pieces[piece] = filters
    for old in list(room.pieces)[:-MOST_PIECES]:
        room.pieces.pop(old, None)
    return filters


def process(block: Block, settings: RoomTailSettings, room: Room) -> Samples:
    """Take the tail out of a block."""
    if settings.amount == 0.0 or not block.samples.any():
        return block.samples
    rate = block.rate
    size, hop = grid_of(rate)
    lead = block.start % hop
    frames = block.samples.shape[1]
    length = -(-(frames + lead) // hop) * hop + size
    padded = np.zeros((len(block.samples), length), dtype=np.float32)
    padded[:, lead : lead + frames] = block.samples
    spectra = np.stack([spectra_of(channel, size, hop) for channel in padded])
    predicted = _predicted(spectra, room, (block.start - lead) // hop, size, hop)
    dry = spectra - np.float32(settings.amount) * predicted
    top = bins_of(rate, size)
    gain = _late_gain(spectra[:, :, :top], dry[:, :, :top], settings, room, rate / size, hop / rate)
    above = np.repeat(gain[:, -ABOVE_BINS:].mean(axis=1, keepdims=True), size // 2 + 1 - top, axis=1)
    gain = np.concatenate([gain, above], axis=1)
    out = np.empty_like(block.samples)
    for channel in range(len(out)):
        change = synthesise(dry[channel] * gain - spectra[channel], size, hop)
        out[channel] = block.samples[channel] + change[lead : lead + frames]
    return out


def _predicted(spectra: NDArray[np.complex64], room: Room, first: int, size: int, hop: int) -> NDArray[np.complex64]:
    """What the pieces' filters predict, neighbouring pieces crossing over."""
    rate, channels = room.source.rate, len(spectra)
    per_piece = round(PIECE_S * rate) // hop
    cross = max(1, round(CROSS_S * rate / hop))
    top = bins_of(rate, size)
    total = np.zeros_like(spectra)
    at = first + np.arange(spectra.shape[1])
    last = _pieces(room.source) - 1
    wanted = (min(max(int(n) // per_piece, 0), last) for n in (at[0] - cross, at[-1] + cross))
    for piece in range(next(wanted), next(wanted) + 1):
        weight = np.ones(len(at))
        if piece > 0:
            weight *= np.clip((at - piece * per_piece) / cross + 0.5, 0.0, 1.0)
        if piece < last:
            weight *= np.clip(((piece + 1) * per_piece - at) / cross + 0.5, 0.0, 1.0)
        inside = np.flatnonzero(weight > 0.0)
        if not len(inside):
            continue
        filters = filters_of(room, piece)
        for group, own in zip(_groups(channels), filters, strict=True):
            taps, delay = frames_of(rate, hop, len(group))
            a, b = max(0, int(inside[0]) - taps - delay), int(inside[-1]) + 1
            part = spectra[group, a:b, :top]
            tail = part - without_tail(part, own, taps=taps, delay=delay)
            total[group, a:b, :top] += tail * weight[a:b, None].astype(np.float32)
    return total


def _late_gain(
    spectra: NDArray[np.complex64],
    dry: NDArray[np.complex64],
    settings: RoomTailSettings,
    room: Room,
    bin_hz: float,
    hop_s: float,
) -> NDArray[np.float32]:
    """(frames, bins) gain against what still rings, one for all channels."""
    from scipy.ndimage import uniform_filter1d

    hz = np.arange(spectra.shape[2]) * bin_hz
    t60 = np.full(len(hz), settings.tail_s) if settings.tail_s is not None else room.decays.at(hz, USUAL_T60_S)
    heard = (spectra.real**2 + spectra.imag**2).mean(axis=0)
    left = (dry.real**2 + dry.imag**2).mean(axis=0)
    share = room_net.mask(heard, left, t60, hz)
    width = max(1, round(settings.smoothing_ms / 1000.0 / (2.0 * hop_s)))
    share = uniform_filter1d(share, width, axis=0, mode="nearest")
    lowest = np.float32(db_to_gain(-settings.reduction_db * settings.amount))
    whole = np.minimum(share / np.float32(room_net.WHOLE_SHARE), 1.0)
    gain = np.maximum(whole ** np.float32(STRENGTH * settings.amount), lowest)
    direct = share > DIRECT_SHARE
    return np.asarray(gain * _kept_level(heard * direct, left * gain**2 * direct, hop_s), dtype=np.float32)


def _kept_level(before: NDArray[np.floating], after: NDArray[np.floating], hop_s: float) -> NDArray[np.float32]:
    """(frames, 1) small gain that gives cells of the direct voice the level they had."""
    from scipy.signal import lfilter

    keep = float(np.exp(-hop_s / KEPT_S))
    sums = lfilter([1.0], [1.0, -keep], np.stack([before.sum(axis=1), after.sum(axis=1)]), axis=1)
    ratio = np.sqrt(sums[0] / np.maximum(sums[1], 1e-20))
    return np.where(sums[1] > 0.0, np.clip(ratio, 1.0, db_to_gain(MOST_KEPT_DB)), 1.0).astype(np.float32)[:, None]


def margin(settings: RoomTailSettings, rate: int) -> Margin:
    """The prediction's reach, the late spectrum and the gain's memory."""
    size, _ = grid_of(rate)
    before = round((TAPS_S + DELAY_S + REACH_S + settings.smoothing_ms / 1000.0 + 6.0 * KEPT_S) * rate)
    return Margin(before + 2 * size, 2 * size + round((COMING_S + settings.smoothing_ms / 1000.0) * rate))


def caption(settings: RoomTailSettings) -> str:
    """Short text on the strip."""
    tail = "" if settings.tail_s is None else f", {format_number(settings.tail_s, 2)} s"
    return f"{format_number(100.0 * settings.amount, 0)} %{tail}"


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: RoomTailSettings, room: Room, progress: Progress
) -> Survey:
    """The decay per band before and after."""
    del spans, settings
    left = decays_of(after, lambda share: progress(0.4 * share))
    was, now = (reverb_db(sound, lambda share: progress(0.4 + 0.3 * share)) for sound in (source, after))
    rows = [(tr("to voice"), _decibels(was), _decibels(now))]
    for hz, before, now in zip(room.decays.centres_hz, room.decays.t60_s, left.t60_s, strict=True):
        rows.append((tr("{hz:g} Hz", hz=hz), _seconds(before), _seconds(now)))
    middle = room.decays.middle_s
    words = (
        tr(
            "Reverberation time T60 {middle} s.",
            middle=format_number(middle, 2),
        )
        if middle is not None
        else tr("Too few words decay freely to measure the decay time; set it by hand.")
    )
    return Survey(words, table=Table((tr("band"), tr("before"), tr("after")), tuple(rows)))


def _seconds(value: float) -> str:
    """A reverberation time; a dash alone where too little was heard."""
    return f"{format_number(value, 2)} s" if np.isfinite(value) else format_number(value)


def _decibels(value: float | None) -> str:
    """A level; a dash alone where too little is said."""
    return format_number(value) if value is None else f"{format_number(value)} dB"


def suggest(source: Source, spans: Sequence[Span], _settings: RoomTailSettings, progress: Progress) -> Suggestion:
    """More where the tail is longer."""
    del spans
    middle = decays_of(source, lambda share: progress(0.6 * share)).middle_s
    if middle is None:
        reverb = reverb_db(source, lambda share: progress(0.6 + 0.4 * share))
        words = tr("Too few words decay freely to measure the decay time.")
        if reverb is None or reverb < HEARD_DB:
            return Suggestion({}, words)
        return Suggestion({"amount": _usual_amount(likely_t60_s(reverb))}, words)
    if middle < 0.3:
        return Suggestion(
            {"amount": 0.4, "reduction_db": 12.0},
            tr("T60 is {middle} s: a dry room; little is needed.", middle=format_number(middle, 2)),
        )
    return Suggestion(
        {"amount": _usual_amount(middle), "reduction_db": 24.0},
        tr("T60 is {middle} s.", middle=format_number(middle, 2)),
    )


def picture(passage: Samples | None, rate: int, settings: RoomTailSettings, room: Room) -> Picture:
    """T60 over frequency, as a level that 0.1 s of it makes: the steeper, the drier."""
    del passage
    hz = np.geomspace(125.0, min(16_000.0, rate / 2.2), 120)
    t60 = np.full(len(hz), settings.tail_s) if settings.tail_s is not None else room.decays.at(hz, USUAL_T60_S)
    return Picture((Curve("tail", hz, t60),), "s", tr("T60 over frequency"), from_zero=True)


ROOM = Problem(kind="room", mild=HEARD_DB, grave=AS_LOUD_DB, unit="dB", certainty=(0.9, 0.95))


def findings(source: Source, progress: Callable[[float], None]) -> list[Finding]:
    """A room that is heard behind a close voice: how much of it, and how long it rings where that can be told."""
    reverb = reverb_db(source, lambda share: progress(0.7 * share))
    if reverb is None or reverb < ROOM.mild:
        return []
    decays = decays_of(source, lambda share: progress(0.7 + 0.3 * share))
    middle = decays.middle_s
    level = format_number(reverb)
    if middle is None:
        words = tr(
            "Reverb {level} dB relative to the direct voice; too few words decay freely to tell its T60.",
            level=level,
        )
        middle = likely_t60_s(reverb)
    else:
        words = tr(
            "Reverb {level} dB relative to the direct voice; T60 {middle} s, from {count} word ends.",
            level=level, middle=format_number(middle, 2), count=decays.count,
        )  # fmt: skip
    return [ROOM.found("room_tail", words, reverb, {"amount": _usual_amount(middle)})]


def _usual_amount(t60_s: float) -> float:
    """More where the tail is longer."""
    return float(np.clip(round(0.5 + 0.5 * t60_s, 1), 0.5, 0.9))


TOOL = Tool(
    id="room_tail",
    title="Room tail",
    summary="Reduces room reverb and keeps the voice in front.",
    settings=RoomTailSettings,
    version=3,
    order=50,
    family="tone",
    strength_field="amount",
    takes_room=True,
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    picture=picture,
    survey=survey,
    suggest=suggest,
    problems=(ROOM,),
    find=findings,
)

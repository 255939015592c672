# SPDX-License-Identifier: GPL-3.0-or-later
"""Which of two voices speaks each phrase, by pitch and timbre.

Pitch by the normalised autocorrelation of 40 ms frames (L. R. Rabiner, "On the use of autocorrelation analysis for pitch
detection", IEEE Trans. ASSP 25(1), 1977); timbre as cepstral coefficients of mel bands (S. Davis and P. Mermelstein,
IEEE Trans. ASSP 28(4), 1980); both are grouped by Ward's method (J. Am. Stat. Assoc. 58, 1963).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span

RATE_HZ = 8000.0
FRAME_S, STEP_S, MOST_S = 0.04, 0.02, 8.0  # listened of each phrase
LOWEST_HZ, HIGHEST_HZ = 65.0, 400.0
VOICED = 0.55  # of the normalised autocorrelation
BANDS, COEFFICIENTS = 24, 12
PITCH_WEIGHT = 9.0  # an octave weighs as much as this distance of cepstra, in nepers
APART, PITCH_APART = 1.5, 0.25  # ratio of distances between and inside groups; octaves between their pitches
LEAST_PHRASES = 3


def voices_of(source: Source, phrases: Sequence[Span], progress: Callable[[float], None] = lambda _: None) -> list[int]:
    """0 or 1 for each phrase, by whose it is; the first phrase's voice is 0. All are 0 where one voice speaks.

    ``phrases`` are frames of the source. ``progress`` (0..1) may raise to stop.
    """
    found = []
    for n, span in enumerate(phrases):
        found.append(_features(source, span))
        progress((n + 1) / len(phrases))
    known = [n for n, f in enumerate(found) if f is not None]
    if len(known) < 2 * LEAST_PHRASES:
        return [0] * len(phrases)
    table = np.stack([f for f in found if f is not None])
    groups = _groups(table)
    if groups is None:
        return [0] * len(phrases)
    nearest, last = [], int(groups[0])
    at = dict(zip(known, groups.tolist(), strict=True))
    for n in range(len(phrases)):
        last = at.get(n, last)
        nearest.append(last)
    return [v ^ nearest[0] for v in nearest]


def _groups(table: NDArray[np.float64]) -> NDArray[np.int64] | None:
    """0 and 1 for each row where there are two groups that stand apart."""
    from scipy.cluster.hierarchy import fcluster, linkage
    from scipy.spatial.distance import cdist

    groups = np.asarray(fcluster(linkage(table, "ward"), 2, "maxclust"), dtype=np.int64) - 1
    parts = [table[groups == k] for k in (0, 1)]
    if min(len(p) for p in parts) < LEAST_PHRASES:
        return None
    between = float(np.mean(cdist(*parts)))
    inside = [d[np.triu_indices(len(d), 1)] for d in (cdist(p, p) for p in parts)]
    within = float(np.mean(np.concatenate(inside)))
    octaves = abs(float(np.median(parts[0][:, 0]) - np.median(parts[1][:, 0]))) / PITCH_WEIGHT
    return groups if between > APART * within and octaves > PITCH_APART else None


def _features(source: Source, span: Span) -> NDArray[np.float64] | None:
    """Pitch in weighted octaves and cepstral coefficients of a phrase; None where nothing is voiced."""
    from scipy.fft import dct, irfft, rfft

    rate = source.rate
    stop = min(span.stop, span.start + round(MOST_S * rate))
    thin = max(1, round(rate / RATE_HZ))
    block = read_padded(source, span.start, stop).mean(axis=0, dtype=np.float64)
    count = len(block) // thin
    samples, hz = block[: count * thin].reshape(count, thin).mean(axis=1), rate / thin
    size, step = round(FRAME_S * hz), round(STEP_S * hz)
    if len(samples) < 3 * size:
        return None
    frames = np.lib.stride_tricks.sliding_window_view(samples, size)[::step] * np.hanning(size)
    energy = (frames**2).sum(axis=1)
    frames = frames[energy > 0.05 * np.quantile(energy, 0.95)]
    power = np.abs(rfft(frames, 2 * size, axis=1)) ** 2
    lags = irfft(power, axis=1)[:, :size]
    window = irfft(np.abs(rfft(np.hanning(size), 2 * size)) ** 2)[:size]
    lags = lags / np.maximum(lags[:, :1], 1e-20) / np.maximum(window / window[0], 0.05)
    low, high = round(hz / HIGHEST_HZ), min(size - 1, round(hz / LOWEST_HZ))
    best = lags[:, low:high].argmax(axis=1)
    strength = lags[np.arange(len(lags)), low + best]
    voiced = strength > VOICED
    if voiced.sum() < 5:
        return None
    pitch = float(np.median(np.log2(hz / (low + best[voiced]))))
    mel = np.linspace(_mel(100.0), _mel(0.48 * hz), BANDS + 2)
    edges = 700.0 * (10.0 ** (mel / 2595.0) - 1.0) * 2 * size / hz
    bins = np.arange(power.shape[1])
    shapes = np.stack([np.interp(bins, edges[k : k + 3], [0.0, 1.0, 0.0]) for k in range(BANDS)])
    bands = np.log(power[voiced] @ shapes.T + 1e-12)
    cepstrum = dct(bands, axis=1, norm="ortho")[:, 1 : 1 + COEFFICIENTS].mean(axis=0)
    return np.concatenate([[PITCH_WEIGHT * pitch], cepstrum])


def _mel(hz: float) -> float:
    return 2595.0 * float(np.log10(1.0 + hz / 700.0))

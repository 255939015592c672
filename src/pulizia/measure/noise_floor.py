# SPDX-License-Identifier: GPL-3.0-or-later
"""The spectrum of the noise alone: from marked stretches, or from the quietest ones there are."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span, clipped
from pulizia.dsp.stft import analyse
from pulizia.errors import AnalysisError
from pulizia.words import tr

SHORTEST_MS = 50.0  # less holds too few frames for a spectrum of noise
DIGITAL_SILENCE = 10.0 ** (-120.0 / 10.0)  # mean square; 24-bit dither lies at -144 dBFS
QUIET_WINDOW_S = 0.4
MOST_LISTENED_S = 600.0  # of a long recording, this much is looked at, evenly spread


def noise_spectrum(source: Source, spans: Sequence[Span], size: int) -> NDArray[np.float32]:
    """Mean power spectrum of the marked noise, as :func:`pulizia.dsp.stft.analyse` sees it.

    Parameters
    ----------
    source
        The sound that the noise is in; its channels are averaged in power.
    spans
        Where noise alone is heard.
    size
        Transform size of the result.

    Returns
    -------
    (size // 2 + 1,) float32, power per bin, never zero

    Raises
    ------
    AnalysisError
        When the stretches lie outside, are shorter than 50 ms in all or hold digital silence.
    """
    inside = clipped(spans, source.frames)
    if not inside:
        message = tr("The noise sample lies outside the recording. Select a section with only noise.")
        raise AnalysisError(message)
    total_ms = 1000.0 * sum(s.frames for s in inside) / source.rate
    if total_ms < SHORTEST_MS:
        message = tr(
            "The noise sample is {total_ms:.0f} ms long. Select at least {shortest_ms:.0f} ms, better half a second, with only noise.",
            total_ms=total_ms,
            shortest_ms=SHORTEST_MS,
        )
        raise AnalysisError(message)
    return mean_spectrum([source.read(s.start, s.stop) for s in inside], size)


def mean_spectrum(parts: Sequence[Samples], size: int) -> NDArray[np.float32]:
    """Mean power spectrum of stretches of noise; see :func:`noise_spectrum`."""
    energy = sum(float(np.sum(p.astype(np.float64) ** 2)) for p in parts)
    count = sum(p.size for p in parts)
    if energy / max(count, 1) < DIGITAL_SILENCE:
        message = tr("The noise sample is digital silence. Select a section where the noise is heard.")
        raise AnalysisError(message)
    longest = max(p.shape[1] for p in parts)
    fitting = size
    while fitting > longest:
        fitting //= 2
    power = np.zeros(fitting // 2 + 1)
    frames = 0
    for part in parts:
        if part.shape[1] < fitting:
            continue
        for channel in part:
            spectra = analyse(channel, fitting, fitting // 4)
            power += np.sum(np.abs(spectra).astype(np.float64) ** 2, axis=0)
            frames += len(spectra)
    power /= frames
    if frames < 4 * 8 * parts[0].shape[0]:  # fewer than about 8 independent frames: calm the curve
        padded = np.pad(power, 2, mode="edge")
        power = np.convolve(padded, [0.1, 0.2, 0.4, 0.2, 0.1], mode="valid")
    if fitting != size:
        power = np.interp(np.linspace(0, 1, size // 2 + 1), np.linspace(0, 1, len(power)), power)
        power *= size / fitting
    floor = power.max() * 1e-12
    return np.asarray(np.maximum(power, floor), dtype=np.float32)


def quiet_spans(
    source: Source, *, most_listened_s: float = MOST_LISTENED_S, without: Sequence[Span] = ()
) -> tuple[Span, ...]:
    """The quietest stretches that are not digital silence: where noise alone is most likely.

    ``without`` are stretches that somebody has said are no noise.

    Raises
    ------
    AnalysisError
        When the recording is too short or silent all through.
    """
    block = max(1, round(0.05 * source.rate))
    count = source.frames // block
    window = max(1, round(QUIET_WINDOW_S / 0.05))
    if source.frames < SHORTEST_MS * source.rate / 1000.0:
        message = tr("The recording is too short to find noise automatically. Select the noise by hand.")
        raise AnalysisError(message)
    if count < window:
        return (Span(0, source.frames),)
    energy = _block_energies(source, block, count, most_listened_s)
    for span in without:
        energy[max(0, span.start // block) : max(0, -(-span.stop // block))] = np.inf
    heard = np.isfinite(energy)  # of a long recording not every stretch was listened to
    sums = np.concatenate([[0.0], np.cumsum(np.where(heard, energy, 0.0))])
    unheard = np.concatenate([[0], np.cumsum(~heard)])
    means = np.where(unheard[window:] > unheard[:-window], np.inf, (sums[window:] - sums[:-window]) / window)
    quietest = np.minimum.reduce([energy[k : k + len(means)] for k in range(window)])
    usable = np.isfinite(means) & (quietest > DIGITAL_SILENCE)
    if not usable.any():
        message = tr("The recording is silent all through: there is no noise to learn.")
        raise AnalysisError(message)
    means[~usable] = np.inf
    limit = means.min() * 2.0
    spans: list[Span] = []
    while len(spans) < 6 and means.min() <= limit:
        best = int(np.argmin(means))
        spans.append(Span(best * block, (best + window) * block))
        means[max(0, best - window + 1) : best + window] = np.inf
    return tuple(sorted(spans))


def _block_energies(source: Source, block: int, count: int, most_listened_s: float) -> NDArray[np.float64]:
    energy = np.full(count, np.inf)
    stretch = 200  # blocks read at once: ten seconds
    stretches = -(-count // stretch)
    step = max(1, round(source.frames / source.rate / most_listened_s))
    for number in range(0, stretches, step):
        first, last = number * stretch, min(count, (number + 1) * stretch)
        samples = source.read(first * block, last * block)
        parts = samples.reshape(source.channels, last - first, block)
        energy[first:last] = np.einsum("cbn,cbn->b", parts, parts) / (source.channels * block)
    return energy

# SPDX-License-Identifier: GPL-3.0-or-later
"""Write a programme to a file, measure that file again, and correct it if it is off."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from pulizia import __version__
from pulizia.audio.edges import EdgedSource
from pulizia.audio.source import Source, SpanSource
from pulizia.delivery.deliverable import Deliverable, kind_of_path, prepared
from pulizia.delivery.metadata import Metadata, moved_to
from pulizia.delivery.normalise import (
    LARGEST_GAIN_DB,
    Meter,
    NormalisedSource,
    Plan,
    State,
    Verdict,
    Way,
    plan,
    verdicts,
)
from pulizia.delivery.reels import OutFile, files_of, joined, left_out, paths_of
from pulizia.delivery.targets import Target
from pulizia.errors import DeliveryError, DiskError, OutputExistsError
from pulizia.measure.blocks import SegmentStore
from pulizia.measure.loudness import DUAL_MONO, Measures
from pulizia.media.broadcast import Loudness, bext_chunk, ixml_chunk
from pulizia.media.encode import CodedWriter
from pulizia.media.keep import kept
from pulizia.media.open import open_media
from pulizia.media.picture import remux
from pulizia.media.write import BITS, FileKind, FlacWriter, WavWriter, shortened, sound_writer
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Stage
from pulizia.score.steps import make_step
from pulizia.words import plural, tr

Progress = Callable[[float, str], None]
WRITE_FRAMES = 1 << 17
LONGEST_NAME_BYTES, LONGEST_PATH = 255, 4095
CORRECTED_ABOVE_LU = 0.05
CORRECTION_GUARD_DB = 0.1  # under the ceiling
MOST_LOWERED_DB = 1.0  # of the ceiling at once: what a codec adds to one peak says little of the next
MOST_CORRECTIONS = 4  # lossy coding moves peaks, and lowering them moves others
SPARE_BYTES = 16 << 20
WORTH_KEEPING_S = 30.0
SHORTEST_RANGE_S = 3.0  # one short-term window: below that there is no loudness range


@dataclass(frozen=True, slots=True, kw_only=True)
class Delivered:
    """A written file with what was measured of it."""

    path: Path
    plan: Plan
    verified: Measures
    verdicts: tuple[Verdict, ...]
    corrected: bool
    deliverable: Deliverable
    seconds: float = 0.0
    notes: tuple[str, ...] = ()  # what the file cannot hold
    files: tuple[Path, ...] = ()  # all that were written; the first is ``path``

    @property
    def passes(self) -> bool:
        """Whether every limit of the target is kept by the written file."""
        return all(verdict.state is State.WITHIN for verdict in self.verdicts)


def check_name(path: Path) -> None:
    """Refuse names that no disk can hold; DeliveryError."""
    too_long = len(os.fsencode(path.name)) > LONGEST_NAME_BYTES or len(os.fsencode(path)) > LONGEST_PATH
    if too_long or "\0" in str(path):
        message = tr(
            "{shortened!r} cannot be the name of a file: it is too long, or holds a zero character. Choose another one.",
            shortened=shortened(path.name),
        )
        raise DeliveryError(message)


def check_output(path: Path, *, inputs: list[Path], overwrite: bool) -> None:
    """Refuse outputs that would replace something by accident, before any work is done.

    Raises
    ------
    DeliveryError, DiskError
        With the way out.
    """
    path = Path(path)
    folder = path.parent
    check_name(path)
    if not folder.is_dir():
        message = tr("The folder {folder} does not exist. Make it, or choose another one.", folder=folder)
        raise DiskError(message)
    if path.is_dir():
        message = tr("{path} is a folder. Give the name of a file in it.", path=path)
        raise DeliveryError(message)
    if path.exists():
        if any(source.exists() and path.samefile(source) for source in inputs):
            message = tr(
                "{name} is the source recording, which is never written to. Choose another name.", name=path.name
            )
            raise DeliveryError(message)
        if not overwrite:
            message = tr("{name} is there already. Choose another name or folder.", name=path.name)
            raise OutputExistsError(message)


def deliver(
    programme: Source,
    target: Target,
    path: Path,
    *,
    wanted: Deliverable | None = None,
    made: Plan | None = None,
    names: tuple[str, ...] | None = None,
    metadata: Metadata | None = None,
    way: Way = "limit",
    hard: bool = False,
    store: SegmentStore | None = None,
    cache: ChunkCache | None = None,
    progress: Progress = lambda _share, _what: None,
) -> Delivered:
    """Prepare, normalise, write, measure the written file, correct it where it is off.

    ``made`` is a plan of this programme in this form, where it is known already; ``hard`` allows
    limiting by more than 20 dB.

    Raises
    ------
    DeliveryError, DiskError, MediaError
        Nothing is left under the final name then, and an earlier file there is unchanged.
    """
    if (
        made is None
        and isinstance(programme, Stage | EdgedSource)
        and programme.frames > WORTH_KEEPING_S * programme.rate
    ):
        # planning, writing and correcting read the programme several times; its steps are worked out once
        with kept(programme, lambda p: progress(0.5 * p, "repairing")) as worked:
            return deliver(
                worked, target, path, wanted=wanted, names=names, metadata=metadata, way=way, hard=hard, store=store, cache=cache,
                progress=lambda p, what: progress(0.5 + 0.5 * p, what),
            )  # fmt: skip
    began = time.monotonic()
    wanted = wanted or Deliverable(kind=kind_of_path(path))
    metadata = metadata or Metadata()
    store = store or SegmentStore()
    cache = cache or ChunkCache()
    whole = replace(wanted, head_s=0.0, tail_s=0.0, pop_s=0.0) if wanted.by_reel else wanted  # each reel gets its own
    ready = prepared(
        programme, whole, lambda p: progress(0.1 * p, tr("converting the rate")), names=metadata.broadcast.channel_names
    )
    if ready.channels != programme.channels and names != (DUAL_MONO,):
        names = None
    if names == (DUAL_MONO,) and ready.channels != 1:
        names = None
    if made is None or ready is not programme:
        made = plan(
            ready, target, names=names, store=store, cache=cache, way=way,
            progress=lambda p: progress(0.1 + 0.4 * p, tr("measuring")),
        )  # fmt: skip
    if made.too_hard and not hard:
        raise DeliveryError(made.too_hard)
    metadata = moved_to(metadata, programme, ready, whole)
    look = Meter(target, store, names)
    source: Source = made.result
    loud = _loudness(made.predicted)
    if wanted.by_reel:
        loud = Loudness()  # that of the programme is not true of a reel
    verified, notes = _write_and_measure(files_of(source, path, wanted, metadata), wanted, loud, look, progress)
    rounds, used = 0, (made.gain_db, target.true_peak_dbtp)
    while (better := _correction(made, verified, *used, rounds)) is not None:
        rounds, used = rounds + 1, better
        held = None if made.way == "gain" else used[1]
        source = NormalisedSource(_before_gain(made, ready, cache), used[0], held, cache)
        loud = loud if wanted.by_reel else _loudness(verified)
        verified, notes = _write_and_measure(files_of(source, path, wanted, metadata), wanted, loud, look, progress)
    files = tuple(paths_of(path, wanted, metadata.markers, ready.frames))
    if wanted.by_reel and (words := left_out(metadata.markers, ready.frames, ready.rate)):
        notes = (*notes, words)
    return Delivered(
        path=files[0], plan=made, verified=verified, verdicts=verdicts(verified, target), corrected=rounds > 0,
        deliverable=wanted, seconds=time.monotonic() - began, notes=notes, files=files,
    )  # fmt: skip


def _correction(
    made: Plan, verified: Measures, gain_db: float, ceiling_dbtp: float, rounds: int
) -> tuple[float, float] | None:
    """Gain and ceiling that bring a written file closer to its target; None where it is right or often enough corrected."""
    target = made.target
    off = target.integrated_lufs - (verified.integrated_lufs or target.integrated_lufs)
    over = (verified.true_peak_dbtp or -99.0) - target.true_peak_dbtp
    peaks = over > 0.0 and made.way != "gain"
    near = abs(off) <= (target.tolerance_lu if rounds else CORRECTED_ABOVE_LU)
    if rounds >= MOST_CORRECTIONS or (near and not peaks):
        return None
    if peaks or not rounds:
        ceiling_dbtp -= min(max(over, 0.0), MOST_LOWERED_DB) + CORRECTION_GUARD_DB
    return min(gain_db + off, LARGEST_GAIN_DB), ceiling_dbtp


def _before_gain(made: Plan, ready: Source, cache: ChunkCache) -> Source:
    if made.levelled:
        return Stage(ready, make_step("leveller", {"amount": made.levelled}), cache, AnalysisStore())
    return ready


def _loudness(found: Measures) -> Loudness:
    return Loudness(
        integrated_lufs=found.integrated_lufs, range_lu=found.loudness_range_lu if found.duration_s >= SHORTEST_RANGE_S else None, true_peak_dbtp=found.true_peak_dbtp,
        momentary_lufs=found.momentary_max_lufs, short_term_lufs=found.short_term_max_lufs,
    )  # fmt: skip


def _write_and_measure(
    files: Sequence[OutFile], wanted: Deliverable, loud: Loudness, look: Meter, progress: Progress
) -> tuple[Measures, tuple[str, ...]]:
    """Write the files of a deliverable, then measure what was written as one programme."""
    notes: tuple[str, ...] = ()
    heard: list[Source] = []
    for n, file in enumerate(files):

        def told(share: float, n: int = n) -> None:
            progress(0.5 + 0.35 * (n + share) / len(files), tr("writing"))

        if wanted.kind == "picture":
            notes = _into_picture(file, wanted, told)
        else:
            write_source(file.source, file.path, wanted, told, metadata=file.metadata, loudness=loud)
        written = open_media(file.path, lambda _p: progress(0.85, tr("reading back"))).source
        begin, end = file.counts.start, min(file.counts.stop, written.frames) if wanted.by_reel else written.frames
        heard.append(written if (begin, end) == (0, written.frames) else SpanSource(written, begin, end))
    return look.measure(joined(heard), lambda p: progress(0.85 + 0.15 * p, tr("measuring the file"))), notes


def _into_picture(file: OutFile, wanted: Deliverable, told: Callable[[float], None]) -> tuple[str, ...]:
    """Replace the sound of a video; returns what it cannot hold."""
    picture = file.metadata.picture
    if picture is None:
        message = tr(
            "{name} is a video file, and the programme does not come from one. Deliver a sound file instead.",
            name=file.path.name,
        )
        raise DeliveryError(message)
    _check_room(file.path, file.source.frames * file.source.channels * 3 + picture.stat().st_size)
    return remux(picture, file.source, file.path, bitrate_kbps=wanted.bitrate_kbps, progress=told)


def _check_room(path: Path, size: int) -> None:
    """Refuse a file for which the disk has no room, before anything is written."""
    free = shutil.disk_usage(path.parent).free if path.parent.is_dir() else size + SPARE_BYTES
    if free < size + SPARE_BYTES:
        message = tr(
            "The disk is too full: {name} needs {size:.1f} MB, {spare:.0f} MB shall stay free, and {parent} has {free:.1f} MB left. Free some space or choose another folder.",
            name=path.name,
            size=size / 1e6,
            spare=SPARE_BYTES / 1e6,
            parent=path.parent,
            free=free / 1e6,
        )
        raise DiskError(message)


def write_source(
    source: Source, path: Path, wanted: Deliverable, progress: Callable[[float], None],
    *, metadata: Metadata | None = None, loudness: Loudness | None = None,
) -> int:  # fmt: skip
    """Write a whole source beside ``path`` and rename it into place; WAV keeps markers and broadcast metadata.

    Returns how many samples lay above full scale and were cut, which only floats are spared.
    """
    metadata, cut = metadata or Metadata(), 0
    floats = wanted.kind == "wav" and wanted.sample_format == "float32"
    if wanted.kind == "wav":
        _check_room(path, source.frames * source.channels * BITS[wanted.sample_format] // 8)
    with _writer_of(source, path, wanted, metadata, loudness) as writer:
        for start in range(0, source.frames, WRITE_FRAMES):
            stop = min(start + WRITE_FRAMES, source.frames)
            block = source.read(start, stop)
            if not floats and block.size and max(block.max(), -block.min()) > 1.0:
                cut += int(np.count_nonzero(np.abs(block) > 1.0))
            writer.write(block)
            progress(stop / source.frames)
    return cut


def cut_words(cut: int) -> str:
    """What to say of samples that were cut; nothing where there are none."""
    if not cut:
        return ""
    return plural(
        "1 sample lies above 0 dBFS and clipped. Add a Limiter as the last step, lower the level, or write 32-bit float.",
        "{n} samples lie above 0 dBFS and clipped. "
        "Add a Limiter as the last step, lower the level, or write 32-bit float.",
        cut,
    )


def _writer_of(
    source: Source, path: Path, wanted: Deliverable, metadata: Metadata, loudness: Loudness | None
) -> WavWriter | FlacWriter | CodedWriter:
    if wanted.kind in ("mp3", "opus", "m4a"):
        return CodedWriter(
            path,
            rate=source.rate,
            channels=source.channels,
            kind=wanted.kind,
            bitrate_kbps=wanted.bitrate_kbps,
            tags=metadata.tags,
        )
    chunks, names = b"", metadata.broadcast.channel_names
    if wanted.kind == "wav" and loudness is not None:
        bits = BITS[wanted.sample_format]
        words = metadata.done or tr("Pulizia {version}", version=__version__)
        broadcast = metadata.broadcast.named(source.channels).after(
            words, rate=source.rate, channels=source.channels, bits=bits
        )
        chunks = bext_chunk(broadcast, loudness) + ixml_chunk(broadcast, rate=source.rate)
    kind: FileKind = "flac" if wanted.kind == "flac" else "wav"
    return sound_writer(
        path, rate=source.rate, channels=source.channels, sample_format=wanted.sample_format, kind=kind,
        markers=metadata.markers, dither=wanted.dither, chunks=chunks, tags=metadata.tags,
        names=names if len(names) == source.channels else (),
    )  # fmt: skip

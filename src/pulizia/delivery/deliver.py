"""Write a programme to a file, measure that file again, and correct it once if it is off."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.audio.source import Source
from pulizia.delivery.normalise import NormalisedSource, Plan, State, Verdict, plan, verdicts
from pulizia.delivery.targets import Target
from pulizia.errors import DeliveryError, DiskError
from pulizia.measure.blocks import SegmentStore
from pulizia.measure.loudness import Measures, measure
from pulizia.media.open import open_media
from pulizia.media.write import BITS, SampleFormat, kind_of, sound_writer
from pulizia.score.cache import ChunkCache

Progress = Callable[[float, str], None]
WRITE_FRAMES = 1 << 17
CORRECTED_ABOVE_LU = 0.05
SPARE_BYTES = 16 << 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Delivered:
    """A written file with what was measured of it."""

    path: Path
    plan: Plan
    verified: Measures
    verdicts: tuple[Verdict, ...]
    corrected: bool
    sample_format: SampleFormat

    @property
    def passes(self) -> bool:
        """Whether every limit of the target is kept by the written file."""
        return all(verdict.state is State.WITHIN for verdict in self.verdicts)


def check_output(path: Path, *, inputs: list[Path], overwrite: bool) -> None:
    """Refuse outputs that would replace something by accident, before any work is done.

    Raises
    ------
    DeliveryError, DiskError
        With the way out.
    """
    path = Path(path)
    folder = path.parent
    if not folder.is_dir():
        message = f"The folder {folder} does not exist. Make it, or choose another one."
        raise DiskError(message)
    if path.is_dir():
        message = f"{path} is a folder. Give the name of a file in it."
        raise DeliveryError(message)
    if path.exists():
        if any(source.exists() and path.samefile(source) for source in inputs):
            message = f"{path.name} is the source recording, which is never written to. Choose another name."
            raise DeliveryError(message)
        if not overwrite:
            message = f"{path.name} is there already. Choose another name, or allow it to be replaced (--overwrite)."
            raise DeliveryError(message)


def deliver(
    programme: Source,
    target: Target,
    path: Path,
    *,
    sample_format: SampleFormat = "int24",
    made: Plan | None = None,
    names: tuple[str, ...] | None = None,
    markers: Sequence[Marker] = (),
    store: SegmentStore | None = None,
    cache: ChunkCache | None = None,
    progress: Progress = lambda _share, _what: None,
) -> Delivered:
    """Normalise, write, measure the written file, correct once.

    Raises
    ------
    DeliveryError, DiskError, MediaError
        Nothing is left under the final name then, and an earlier file there is unchanged.
    """
    store = store or SegmentStore()
    cache = cache or ChunkCache()
    made = made or plan(
        programme, target, names=names, store=store, cache=cache,
        progress=lambda p: progress(0.5 * p, "measuring"),
    )  # fmt: skip
    source = made.result
    verified = _write_and_measure(source, path, sample_format, names, markers, store, progress)
    corrected = False
    off = target.integrated_lufs - (verified.integrated_lufs or target.integrated_lufs)
    over = (verified.true_peak_dbtp or -99.0) - target.true_peak_dbtp
    if abs(off) > CORRECTED_ABOVE_LU or over > 0.0:
        ceiling = target.true_peak_dbtp - max(over, 0.0) - 0.1
        source = NormalisedSource(programme, made.gain_db + off, ceiling, cache)
        verified = _write_and_measure(source, path, sample_format, names, markers, store, progress)
        corrected = True
    return Delivered(
        path=path, plan=made, verified=verified, verdicts=verdicts(verified, target),
        corrected=corrected, sample_format=sample_format,
    )  # fmt: skip


def _write_and_measure(
    source: Source, path: Path, sample_format: SampleFormat, names: tuple[str, ...] | None,
    markers: Sequence[Marker], store: SegmentStore, progress: Progress,
) -> Measures:  # fmt: skip
    write_source(source, path, sample_format, lambda p: progress(0.5 + 0.35 * p, "writing"), markers=markers)
    written = open_media(path, lambda _p: progress(0.85, "reading back"))
    return measure(
        written.source, store, lambda p: progress(0.85 + 0.15 * p, "measuring the file"), names=names
    )


def write_source(
    source: Source, path: Path, sample_format: SampleFormat, progress: Callable[[float], None],
    *, markers: Sequence[Marker] = (),
) -> None:  # fmt: skip
    """Write a whole source beside ``path`` and rename it into place; WAV keeps markers as cue points."""
    size = source.frames * source.channels * BITS[sample_format] // 8
    kind = kind_of(path)
    free = shutil.disk_usage(path.parent).free if path.parent.is_dir() else size
    if kind == "wav" and free < size + SPARE_BYTES:
        message = (
            f"{path.name} needs {size / 1e6:.0f} MB and {path.parent} has {free / 1e6:.0f} MB left. "
            "Free some space or choose another folder."
        )
        raise DiskError(message)
    with sound_writer(
        path, rate=source.rate, channels=source.channels, sample_format=sample_format, kind=kind,
        markers=markers,
    ) as writer:
        for start in range(0, source.frames, WRITE_FRAMES):
            stop = min(start + WRITE_FRAMES, source.frames)
            writer.write(source.read(start, stop))
            progress(stop / source.frames)

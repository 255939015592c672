"""`pulizia measure`: the figures of a file."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pulizia.audio.source import Source, SpanSource
from pulizia.cli.progress import TerminalProgress
from pulizia.errors import MediaError
from pulizia.measure.loudness import Measures, measure
from pulizia.media.open import OpenMedia, open_media
from pulizia.units import format_number, format_time, seconds_to_frames

ROWS = (
    ("Integrated", "integrated_lufs", "LUFS"),
    ("Highest momentary", "momentary_max_lufs", "LUFS"),
    ("Highest short-term", "short_term_max_lufs", "LUFS"),
    ("Loudness range", "loudness_range_lu", "LU"),
    ("True peak", "true_peak_dbtp", "dBTP"),
    ("Sample peak", "sample_peak_dbfs", "dBFS"),
    ("RMS", "rms_dbfs", "dBFS"),
)


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("measure", help="loudness, peaks and levels of a sound file")
    command.add_argument("file", type=Path)
    command.add_argument("--span", type=float, nargs=2, metavar=("FROM", "TO"),
                         help="only this stretch, in seconds")  # fmt: skip
    command.add_argument("--json", action="store_true", help="print the figures as JSON")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Measure and print."""
    progress = TerminalProgress("measuring")
    media = open_media(options.file, progress)
    source = _stretch(media, options.span)
    figures = measure(source, progress=progress, names=media.channel_names)
    progress.done()
    if options.json:
        row = figures.figures() | {"file": str(options.file), "channel_names": media.channel_names}
        row["samples_cleaned"] = media.source.cleaned
        print(json.dumps(row, indent=1))
        return 0
    print(f"{options.file.name}: {format_time(figures.duration_s, 1)}, {media.format_line}")
    print_figures(figures)
    for note in (media.warning, cleaned_note(media.source.cleaned)):
        if note:
            print(note)
    return 0


def _stretch(media: OpenMedia, span: list[float] | None) -> Source:
    whole = media.source
    if span is None:
        return whole
    start, stop = (seconds_to_frames(s, whole.rate) for s in span)
    if not 0 <= start < stop <= whole.frames:
        length = whole.frames / whole.rate
        message = f"The span {span[0]:g} to {span[1]:g} s does not lie inside {media.path.name}, which is {length:.2f} s long."
        raise MediaError(message)
    return SpanSource(whole, start, stop)


def print_figures(figures: Measures) -> None:
    """A table of the main figures."""
    for name, field, unit in ROWS:
        print(f"  {name:<20}{format_number(getattr(figures, field)):>8} {unit}")


def cleaned_note(cleaned: bool) -> str:  # noqa: FBT001 - the state told
    """A sentence when a file held values that are not numbers."""
    if not cleaned:
        return ""
    return "Some samples were not numbers or impossibly large; they were read as silence."

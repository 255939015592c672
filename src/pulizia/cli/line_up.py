# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia line-up`: how recordings of one moment lie against each other."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pulizia.cli.progress import TerminalProgress
from pulizia.measure.line_up import LineUp, line_up
from pulizia.media.open import open_media

SPEAKERS_APART_S = 0.03  # ten metres of air: a recorder that stops loses more, as a rule


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("line-up", help="how recordings of one moment lie against the first")
    command.add_argument("first", type=Path, metavar="FILE", help="the recording whose clock counts")
    command.add_argument("others", type=Path, nargs="+", metavar="OTHER", help="recordings of the same moment")
    command.add_argument("--json", action="store_true", help="print the figures as JSON")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Line each up with the first and print how it lies; nothing common is not an error."""
    first = open_media(options.first).source
    others = [(path, open_media(path).source) for path in options.others]
    rows = []
    for path, source in others:
        progress = TerminalProgress(path.name)
        lie = line_up(first, source, progress)
        progress.done()
        rows.append(_row(path, lie))
        if not options.json:
            print(_words(path, lie))
    if options.json:
        print(json.dumps(rows, indent=1))
    return 0


def _row(path: Path, lie: LineUp) -> dict[str, Any]:
    return {
        "file": str(path), "same": lie.is_same, "perhaps": lie.perhaps, "offset_s": lie.offset_s, "drift_ppm": lie.drift_ppm,
        "inverted": lie.inverted, "same_moment": lie.same_moment, "exact_place": lie.exact_place, "score": lie.score,
        "ratio": lie.ratio, "spread_ms": lie.spread_ms,
        "candidates": [{"offset_s": c.offset_s, "share": c.share} for c in lie.candidates],
        "pieces": [{"start_s": p.start_s, "stop_s": p.stop_s, "offset_s": p.offset_s} for p in lie.pieces],
    }  # fmt: skip


def _words(path: Path, lie: LineUp) -> str:
    if not lie.is_same and not lie.perhaps:
        return f"{path.name}: nothing of the same moment was found (strength {lie.score:.1f}; 15 is certain)."
    sure = "the same moment" if lie.is_same else "perhaps the same moment; listen to it"
    turned = ", inverted" if lie.inverted else ""
    began = f"{abs(lie.offset_s):.5f} s {'before' if lie.offset_s < 0.0 else 'after'} the first"
    clock = f"{abs(lie.drift_ppm):.2f} ppm {'slower' if lie.drift_ppm < 0.0 else 'faster'}"
    sentence = f"{path.name}: {sure}. It began {began}; its clock counts {clock}{turned}."
    if lie.exact_place < 0.5:
        sentence += " The exact place is not certain: the direct sound is no stronger than its reflections."
    if len(lie.pieces) > 1:
        parts = "; ".join(f"{p.start_s:.1f} to {p.stop_s:.1f} s at {p.offset_s:+.4f} s" for p in lie.pieces)
        apart = max(p.offset_s for p in lie.pieces) - min(p.offset_s for p in lie.pieces)
        why = "It jumps" if apart > SPEAKERS_APART_S else "It jumps, or hears speakers at several distances"
        sentence += f" {why}: {parts}."
    return sentence

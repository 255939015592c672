# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia find`: from which raw recordings a worked file was made, or where its words are said again."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.cli.parsing import seconds
from pulizia.cli.progress import TerminalProgress
from pulizia.delivery.deliver import check_output, cut_words, write_source
from pulizia.delivery.deliverable import Deliverable, kind_of_path
from pulizia.delivery.metadata import Metadata
from pulizia.errors import DeliveryError, MediaError
from pulizia.measure.same_sound import SameSound, find_same
from pulizia.measure.same_words import LONGEST_S, SHORTEST_S, SameWords, described, find_words, says_enough
from pulizia.media.open import OpenMedia, broadcast_of, open_media
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.session.sources import sound_files
from pulizia.tools.original import lying_at
from pulizia.units import format_number, format_time, seconds_to_frames


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser(
        "find", help="find the raw recording that a processed file was made from, or other takes of its words"
    )
    command.add_argument("file", type=Path, help="the processed file, or the take with the words")
    command.add_argument(
        "--among", type=Path, nargs="+", required=True, metavar="PATH", help="raw recordings, or folders of them"
    )
    command.add_argument(
        "--words", type=seconds, nargs=2, metavar=("FROM", "TO"),
        help="find where the words of this section, in seconds, are said again, in the file itself too",
    )  # fmt: skip
    command.add_argument(
        "--put-back",
        type=seconds,
        nargs=2,
        metavar=("FROM", "TO"),
        help="write the processed file with the best matching raw recording put back in this section, in seconds (with -o)",
    )
    command.add_argument("-o", "--output", type=Path, help="the file that is written")
    command.add_argument("--overwrite", action="store_true", help="replace an existing output")
    command.add_argument("--json", action="store_true", help="print as JSON")
    command.set_defaults(run=run)


def _put_back(options: argparse.Namespace, media: OpenMedia, path: Path, found: SameSound) -> None:
    rate = media.source.rate
    start, stop = (seconds_to_frames(s, rate) for s in options.put_back)
    if not 0 <= start < stop <= media.source.frames:
        message = f"The section from {options.put_back[0]:g} to {options.put_back[1]:g} s does not lie inside {media.path.name}, which is {media.source.frames / rate:.2f} s long."
        raise DeliveryError(message)
    raw = open_media(path)
    step = make_step("original", lying_at(raw.fingerprint, found, 0.0), spans=(Span(start, stop),))
    chain = Chain(media.source, [step], ChunkCache(), AnalysisStore(), lambda _fingerprint: raw.source)
    cut = write_source(
        chain.after,
        options.output,
        Deliverable(kind=kind_of_path(options.output)),
        lambda _share: None,
        metadata=Metadata(markers=media.markers, broadcast=broadcast_of(media)),
    )
    if words := cut_words(cut):
        print(words, file=sys.stderr if options.json else sys.stdout)
    print(
        f"{options.output}: {path.name} put back from {options.put_back[0]:g} to {options.put_back[1]:g} s",
        file=sys.stderr if options.json else sys.stdout,
    )


def _words(
    options: argparse.Namespace, media: OpenMedia, candidates: Sequence[Path], progress: TerminalProgress
) -> int:
    rate = media.source.rate
    begin, end = options.words
    if not (begin >= 0 and SHORTEST_S <= end - begin <= LONGEST_S and end * rate <= media.source.frames):
        message = (
            f"The section from {begin:g} to {end:g} s must lie inside {media.path.name}, which is {media.source.frames / rate:.2f} s long, "
            f"and last {SHORTEST_S:g} to {LONGEST_S:g} s."
        )
        raise DeliveryError(message)
    mine, passage = described(media.source), Span(round(begin * rate), round(end * rate))
    if not says_enough(mine, passage):
        message = (
            f"Hardly anything is said from {begin:g} to {end:g} s of {media.path.name}. Name a section with words."
        )
        raise DeliveryError(message)
    rows: list[tuple[Path, int, SameWords]] = [(options.file, rate, f) for f in find_words(mine, passage, mine)]
    for n, path in enumerate(candidates):
        progress(n / len(candidates), path.name)
        try:
            other = open_media(path).source
        except MediaError:
            continue  # a file of another kind among the recordings
        rows += [(path, other.rate, f) for f in find_words(mine, passage, described(other))]
    progress.done()
    rows.sort(key=lambda row: -row[2].likeness)
    if options.json:
        told = [
            {"file": str(p), "start_s": f.start / r, "stop_s": f.stop / r, "likeness": f.likeness} for p, r, f in rows
        ]
        print(json.dumps(told, indent=1))
        return 0 if rows else 1
    if not rows:
        message = f"The words from {begin:g} to {end:g} s of {options.file.name} were not found in any of {len(candidates) + 1} recordings."
        raise MediaError(message)
    for path, r, found in rows:
        print(
            f"{path}: {format_time(found.start / r, 2)} to {format_time(found.stop / r, 2)}, likeness {100 * found.likeness:.0f} %"
        )
    return 0


def _check(options: argparse.Namespace) -> None:
    if options.words is not None and options.output is not None:
        message = "--words finds other takes and writes nothing. Leave out -o and --put-back."
        raise DeliveryError(message)
    if (options.put_back is None) != (options.output is None):
        message = "To put a section back, give both --put-back FROM TO and -o OUT."
        raise DeliveryError(message)
    if options.output is not None:
        check_output(options.output, inputs=[options.file], overwrite=options.overwrite)


def _found(worked: Source, candidates: Sequence[Path], progress: TerminalProgress) -> list[tuple[Path, SameSound]]:
    rows = []
    for n, path in enumerate(candidates):
        progress(n / len(candidates), path.name)
        try:
            found = find_same(worked, open_media(path).source)
        except MediaError:
            continue  # a file of another kind among the recordings
        if found is not None:
            rows.append((path, found))
    return sorted(rows, key=lambda row: -row[1].likeness)


def run(options: argparse.Namespace) -> int:
    """Look through all candidates, likeliest first."""
    _check(options)
    progress = TerminalProgress(options.file.name)
    media = open_media(options.file, progress)
    worked = media.source
    for path in options.among:
        if not path.exists():
            message = f"{path} was not found. Name raw recordings, or folders that hold them."
            raise MediaError(message)
    candidates = [p for p in sound_files(options.among) if not p.samefile(options.file)]
    if not candidates:
        message = "There is no sound file to look through. Name raw recordings, or a folder that holds them."
        raise MediaError(message)
    if options.words is not None:
        return _words(options, media, candidates, progress)
    rows = _found(worked, candidates, progress)
    progress.done()
    if rows and options.output is not None:
        _put_back(options, media, *rows[0])
    if options.json:
        print(
            json.dumps(
                [
                    {
                        "file": str(p),
                        "offset_s": f.offset_s,
                        "drift_ppm": f.drift_ppm,
                        "gain_db": f.gain_db,
                        "likeness": f.likeness,
                    }
                    for p, f in rows
                ],
                indent=1,
            )
        )
        return 0 if rows else 1
    if not rows:
        where = candidates[0].name if len(candidates) == 1 else f"any of {len(candidates)} recordings"
        message = f"{options.file.name} was not found in {where}."
        raise MediaError(message)
    for path, found in rows:
        drift = f", drift {format_number(found.drift_ppm, 0, plus=True)} ppm" if abs(found.drift_ppm) >= 1 else ""
        sign = "\u2212" if found.offset_s <= -0.0005 else ""
        print(
            f"{path}: from {sign}{format_time(abs(found.offset_s), 3)}, {format_number(found.gain_db, plus=True)} dB{drift}, likeness {100 * found.likeness:.0f} %"
        )
    return 0

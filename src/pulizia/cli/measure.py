# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia measure`: the figures of a file."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from pulizia.audio.source import Source, SpanSource
from pulizia.batch.runner import Result
from pulizia.cli.assembled import add_programme_flag, assembled
from pulizia.cli.batch import add_batch_flags, for_workers, order_of, print_rows, run_batch
from pulizia.cli.parsing import seconds
from pulizia.cli.progress import TerminalProgress
from pulizia.delivery.deliver import check_output
from pulizia.delivery.normalise import Meter, Verdict, verdicts
from pulizia.delivery.targets import Target, target_of
from pulizia.errors import DeliveryError, MediaError
from pulizia.measure.blocks import SegmentStore
from pulizia.measure.loudness import DUAL_MONO, Measures, measure
from pulizia.measure.readings import LOUDEST_S, Reading, loudest, readings
from pulizia.media.folders import config_folder
from pulizia.media.write import write_text
from pulizia.project.file import SUFFIX
from pulizia.project.processed import processed_file
from pulizia.report.measurement_log import FIGURES, measurement_csv
from pulizia.units import format_number, format_time, seconds_to_frames


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("measure", help="loudness, peaks and levels of sound files")
    command.add_argument("files", type=Path, nargs="+", metavar="FILE", help="several are compared side by side")
    command.add_argument("--span", type=seconds, nargs=2, metavar=("FROM", "TO"),
                         help="only this section, in seconds")  # fmt: skip
    command.add_argument("--dual-mono", action="store_true", help="measure a mono file as dual mono (3 LU louder)")
    command.add_argument("--target", help="check against a target's limits; see `pulizia targets`")
    command.add_argument(
        "--readings",
        action="store_true",
        help="also read it in other ways (speech only, without gates, single channels), and say why they differ",
    )
    command.add_argument(
        "--log",
        type=Path,
        metavar="CSV",
        help="save the measurement of one file as a log: figures, limits, loudness over time",
    )
    command.add_argument("--overwrite", action="store_true", help="replace an existing log")
    command.add_argument("--recording", help="which recording of a project, measured after its steps")
    add_programme_flag(command)
    command.add_argument("--json", action="store_true", help="print the figures as JSON")
    add_batch_flags(command, writes=False)
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Measure and print."""
    target = target_of(options.target, config_folder("targets")) if options.target else None
    if options.log is not None:
        if len(options.files) > 1:
            message = "A log holds one measurement. Name one file."
            raise DeliveryError(message)
        check_output(options.log, inputs=options.files, overwrite=options.overwrite)
    work = partial(measured, options=for_workers(options), target=target)
    nothing = [None] * len(options.files)
    code, outcomes = run_batch(work, options.files, nothing, options, order=order_of(options, target))
    if options.json:
        print_rows(outcomes)
    elif len(options.files) > 1 and (rows := [o.told.row for o in outcomes if isinstance(o.told.row, dict)]):
        _tell_side_by_side(rows)
    return code


def measured(
    path: Path, _target: Path | None, *, overwrite: bool, options: argparse.Namespace, target: Target | None
) -> Result:
    """Measure one file; the lines are those of a file that is measured alone."""
    one = _measured(path, options, target)
    if options.log is not None:
        check_output(options.log, inputs=[path], overwrite=overwrite or options.overwrite)
        write_text(options.log, measurement_csv(one.figures, one.verdicts))
    return Result(() if options.several or options.json else tuple(_lines(one)), one.row())


@dataclass(frozen=True, slots=True, kw_only=True)
class _Measured:
    """A file or programme with everything that was asked of it."""

    title: str
    path: Path
    names: tuple[str, ...]
    form: str
    cleaned: bool
    notes: tuple[str, ...]
    figures: Measures
    verdicts: tuple[Verdict, ...]
    readings: tuple[Reading, ...]

    def row(self) -> dict[str, Any]:
        """As plain JSON values."""
        row = self.figures.figures() | {"file": str(self.path), "channel_names": self.names}
        row["samples_cleaned"] = self.cleaned
        for length_s in LOUDEST_S:
            top = loudest(self.figures, length_s)
            row[f"loudest_{length_s:.0f}_s"] = (
                None if top is None else {"at_s": round(top.start_s, 2), "lufs": top.lufs}
            )
        if self.readings:
            row["readings"] = [{"name": r.name, "lufs": r.lufs, "why": r.why} for r in self.readings]
        if self.verdicts:
            row["verdicts"] = [
                {
                    "name": v.name,
                    "measured": v.measured,
                    "limit": v.limit,
                    "state": v.state.value,
                    "by": v.by,
                    "words": v.words,
                }
                for v in self.verdicts
            ]
        return row


def _measured(path: Path, options: argparse.Namespace, target: Target | None) -> _Measured:
    progress = TerminalProgress(f"measuring {options.programme or path.name}")
    media = None
    if options.programme:
        made = assembled(path, options.programme, progress)
        whole, known, title, notes = made.source, made.names, made.programme.name, made.notes
        form = f"{whole.rate / 1000:g} kHz, {len(made.programme.lanes)} lane{'s' * (len(made.programme.lanes) != 1)}, {whole.channels} channels"
    else:
        one = processed_file(path, options.recording, progress)  # as it is, or a project's recording after its steps
        media, whole, known, form = one.media, one.kept, one.media.channel_names, one.media.format_line
        title = one.name if path.suffix.lower() == SUFFIX else path.name
        notes = (media.warning,) if media.warning else ()
    source = _stretch(whole, title, options.span)
    names = (DUAL_MONO,) if options.dual_mono and source.channels == 1 else known
    figures = measure(source, progress=progress, names=names)
    other = tuple(readings(source, figures, names, progress=progress)) if options.readings else ()
    if target is not None and target.gate == "dialogue":
        figures = Meter(target, SegmentStore(), names).measure(source, progress)
    progress.done()
    cleaned = media is not None and media.source.cleaned  # known when all of it was read
    return _Measured(
        title=title,
        path=path,
        names=known,
        form=form,
        cleaned=cleaned,
        notes=notes,
        figures=figures,
        verdicts=verdicts(figures, target) if target else (),
        readings=other,
    )


def _lines(one: _Measured) -> Iterator[str]:
    yield f"{one.title}: {format_time(one.figures.duration_s, 1)}, {one.form}"
    yield from figure_lines(one.figures)
    for length_s in LOUDEST_S:
        if (top := loudest(one.figures, length_s)) is not None:
            yield f"  {f'Loudest {length_s:.0f} s':<20}{format_number(top.lufs):>8} LUFS from {format_time(top.start_s, 1)}"
    for v in one.verdicts:
        yield f"  {v.name:<20}{format_number(v.measured):>8}  {v.limit:<22} {v.words}"
    for reading in one.readings:
        yield f"  {reading.name:<28}{format_number(reading.lufs):>8} LUFS  {reading.why}"
    yield from (note for note in (*one.notes, cleaned_note(cleaned=one.cleaned)) if note)


def _tell_side_by_side(rows: list[dict[str, Any]]) -> None:
    names = [Path(row["file"]).name for row in rows]
    width = max(map(len, names))
    print(f"{'':<{width}}" + "".join(f"{_short(name):>12}" for name, _, _ in FIGURES))
    print(f"{'':<{width}}" + "".join(f"{unit:>12}" for _, _, unit in FIGURES))
    for name, row in zip(names, rows, strict=True):
        cells = "".join(f"{format_number(row[field]):>12}" for _, field, _ in FIGURES)
        verdicts_of = row.get("verdicts", [])
        bad = next((v for v in verdicts_of if v["words"] != "within"), None)
        words = "" if not verdicts_of else f"  {bad['name']} {bad['words']}" if bad else "  within every limit"
        print(f"{name:<{width}}{cells}{words}")


def _short(name: str) -> str:
    return (
        name.replace("Highest momentary", "M max")
        .replace("Highest short-term", "S max")
        .replace("Loudness range", "Range")
    )


def _stretch(whole: Source, title: str, span: list[float] | None) -> Source:
    if span is None:
        return whole
    start, stop = (seconds_to_frames(s, whole.rate) for s in span)
    if not 0 <= start < stop <= whole.frames:
        length = whole.frames / whole.rate
        message = f"The span {span[0]:g} to {span[1]:g} s does not lie inside {title}, which is {length:.2f} s long."
        raise MediaError(message)
    return SpanSource(whole, start, stop)


def figure_lines(figures: Measures) -> Iterator[str]:
    """A table of the main figures."""
    for name, field, unit in FIGURES:
        yield f"  {name:<20}{format_number(getattr(figures, field)):>8} {unit}"


def cleaned_note(*, cleaned: bool) -> str:
    """A sentence when a file held values that are not numbers."""
    if not cleaned:
        return ""
    return "Invalid samples (NaN, infinite or impossibly large) were read as silence."

"""`pulizia deliver`: a programme brought to a target, written, and the file measured again."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pulizia.cli.progress import TerminalProgress
from pulizia.cli.repair import FORMATS
from pulizia.cli.worked import worked_programme
from pulizia.delivery.deliver import check_output, deliver
from pulizia.delivery.targets import target_of
from pulizia.media.folders import config_folder
from pulizia.media.write import kind_of, write_text
from pulizia.report.loudness_report import report_content, report_html, report_json
from pulizia.units import format_number


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("deliver", help="bring a programme to a loudness target")
    command.add_argument("file", type=Path, help="a sound file or a project")
    command.add_argument("--target", required=True, help="see `pulizia targets`")
    command.add_argument("-o", "--output", type=Path, required=True, help="the file to write")
    command.add_argument("--report", type=Path, help="write a report, as .html or .json")
    command.add_argument("--recording", help="which recording of a project, by name")
    command.add_argument("--bits", choices=tuple(FORMATS), default="24", help="sample format (24)")
    command.add_argument("--json", action="store_true", help="print the report as JSON")
    command.add_argument("--overwrite", action="store_true", help="replace existing outputs")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Deliver and print what was measured."""
    target = target_of(options.target, config_folder("targets"))
    progress = TerminalProgress(options.file.name)
    kind_of(options.output)
    check_output(options.output, inputs=[options.file], overwrite=options.overwrite)
    if options.report:
        check_output(options.report, inputs=[options.file, options.output], overwrite=options.overwrite)
    programme = worked_programme(options.file, options.recording, progress)
    check_output(options.output, inputs=[programme.path], overwrite=options.overwrite)
    done = deliver(
        programme.source, target, options.output, sample_format=FORMATS[options.bits],
        names=programme.channel_names, markers=programme.markers, progress=progress,
    )  # fmt: skip
    progress.done()
    if options.report:
        is_json = options.report.suffix.lower() == ".json"
        write_text(options.report, report_json(done) if is_json else report_html(done))
    if options.json:
        print(json.dumps(report_content(done), indent=1))
        return 0
    plan = done.plan
    print(f"{options.output.name}: {target.title}, gain {format_number(plan.gain_db, 2, plus=True)} dB"
          + (f", limited by up to {plan.largest_reduction_db:.1f} dB" if plan.limited else ", not limited"))  # fmt: skip
    for verdict in done.verdicts:
        print(f"  {verdict.name:<20}{format_number(verdict.measured):>8}  {verdict.limit:<22} {verdict.words}")
    print("Measured again from the written file." + (" Corrected once." if done.corrected else ""))
    return 0

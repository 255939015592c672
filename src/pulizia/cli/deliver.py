# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia deliver`: programmes brought to a target, written, and the files measured again."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from pulizia.batch.runner import Result
from pulizia.cli.assembled import Assembled, add_programme_flag, assembled
from pulizia.cli.batch import add_batch_flags, for_workers, order_of, run_batch
from pulizia.cli.measure import cleaned_note
from pulizia.cli.outputs import add_keep_flag, add_output_flags, deliverable_of, output_paths
from pulizia.cli.parsing import seconds
from pulizia.cli.progress import TerminalProgress
from pulizia.cli.treating import treating
from pulizia.delivery.deliver import Delivered, check_output, deliver
from pulizia.delivery.normalise import WAYS
from pulizia.delivery.reels import paths_of
from pulizia.delivery.targets import Target, target_of
from pulizia.errors import DeliveryError
from pulizia.inspection.treat import Trial
from pulizia.measure.loudness import DUAL_MONO
from pulizia.media.folders import config_folder
from pulizia.media.keep import kept
from pulizia.media.open import OpenMedia
from pulizia.media.picture import is_picture
from pulizia.media.write import write_text
from pulizia.project.processed import CHUNK_BYTES, processed_file, trimmed
from pulizia.project.programme import beside_film, in_place
from pulizia.report.loudness_report import report_content, report_csv, report_html, report_json
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.recipe_library import find_recipe
from pulizia.score.recipes import Recipe
from pulizia.units import format_number

REPORTS = {".html": report_html, ".json": report_json, ".csv": report_csv}


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("deliver", help="bring programmes to a loudness target")
    command.add_argument("files", type=Path, nargs="+", metavar="FILE", help="sound or video files, or a project")
    command.add_argument("--target", required=True, help="see `pulizia targets`")
    command.add_argument("-o", "--output", type=Path, required=True,
                         help="the file to write; a folder for several; .mp4, .mov or .mkv replaces the sound in the video")  # fmt: skip
    command.add_argument(
        "--also",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="another file of the same programme in the same go, its kind by its ending; may be given several times",
    )
    first = command.add_mutually_exclusive_group()
    first.add_argument("--recipe", help="repair first, with a recipe's JSON file or the name of one")
    first.add_argument("--treat", action="store_true", help="inspect first, and treat the problems that are found")
    command.add_argument(
        "--way",
        choices=tuple(WAYS),
        default="limit",
        help="gain only, gain with limiting if needed, or levelling first (limit)",
    )
    command.add_argument(
        "--limit-hard", action="store_true", help="allow the limiter to lower peaks by more than 20 dB"
    )
    command.add_argument("--dual-mono", action="store_true", help="measure a mono programme as dual mono (3 LU louder)")
    command.add_argument(
        "--head", dest="head_s", type=seconds, default=0.0, metavar="S", help="silence before, in seconds"
    )
    command.add_argument("--tail", dest="tail_s", type=seconds, default=0.0, metavar="S", help="silence after")
    command.add_argument(
        "--pop",
        metavar="RATE",
        help="a 2-pop two seconds before the start, one frame of a picture of this rate (25, 23.976, 29.97); makes the head that long",
    )
    command.add_argument("--fade-in", dest="fade_in_s", type=seconds, default=0.0, metavar="S")
    command.add_argument("--fade-out", dest="fade_out_s", type=seconds, default=0.0, metavar="S")
    command.add_argument(
        "--report", type=Path, help="write a report, as .html, .json or .csv; a folder for several files"
    )
    add_keep_flag(command)
    command.add_argument(
        "--reels", action="store_true",
        help="of a programme: a file for each of its reels, all at the programme's gain, with head, tail and 2-pop of its own",
    )  # fmt: skip
    command.add_argument("--recording", help="which recording of a project, by name")
    add_programme_flag(command)
    command.add_argument("--json", action="store_true", help="print the report as JSON")
    add_output_flags(command, pictures=True)
    add_batch_flags(command, writes=True)
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Deliver every programme and tell what was measured."""
    target = target_of(options.target, config_folder("targets"))
    recipe = find_recipe(options.recipe) if options.recipe else None
    outputs = output_paths(options.files, options.output, options.format)
    if options.also and len(options.files) > 1:
        message = "--also belongs to one programme. Name one file, or call once for each."
        raise DeliveryError(message)
    for output in [*outputs, *options.also]:
        deliverable_of(options, output)
    work = partial(one, target=target, recipe=recipe, options=for_workers(options))
    return run_batch(work, options.files, outputs, options, order=order_of(options, recipe, target))[0]


def one(
    path: Path, output: Path | None, *, overwrite: bool, target: Target, recipe: Recipe | None,
    options: argparse.Namespace,
) -> Result:  # fmt: skip
    """Deliver one programme; returns what to tell."""
    assert output is not None  # noqa: S101 - deliveries are always written
    progress = TerminalProgress(path.name)
    for target_path in () if options.reels else (output, *options.also):
        check_output(target_path, inputs=[path], overwrite=overwrite)
    report = _report_path(options, output)
    if report is not None:
        check_output(report, inputs=[path, output], overwrite=overwrite)
    if options.programme:
        programme_made = assembled(path, options.programme, progress)
        return _one_programme(programme_made, output, report, target, options, progress, overwrite=overwrite)
    if options.reels:
        message = "--reels belongs to a programme. Name one with --programme."
        raise DeliveryError(message)
    programme = processed_file(path, options.recording, progress)
    recording = trimmed(programme.recording, options.keep)
    check_output(output, inputs=[recording.path], overwrite=overwrite)
    sound, steps = programme.sound, recording.score
    trials: tuple[Trial, ...] = ()
    cache, store = ChunkCache(CHUNK_BYTES), AnalysisStore()
    if options.treat:
        steps, trials = treating(sound, programme.media.channel_names, cache, store, progress)
    elif recipe is not None:
        steps = recipe.steps_for(sound.rate)
    if options.treat or recipe is not None:
        chain = Chain(sound, steps, cache, store)
        chain.prepare(lambda share: progress(share, "listening"))
        sound = chain.after
    programme = replace(programme, sound=sound, recording=recording)
    dual = options.dual_mono and (sound.channels == 1 or options.layout == "mono")
    names = (DUAL_MONO,) if dual else programme.media.channel_names
    # several files read the programme several times: its steps are rendered once
    source = programme.kept
    worked = kept(source, lambda share: progress(share, "repairing")) if options.also and steps else nullcontext(source)
    with worked as source, _told_of(programme.media):
        made = [
            deliver(
                in_place(recording, source) if is_picture(path) else source,
                target, path, wanted=deliverable_of(options, path), names=names, metadata=programme.metadata,
                way=options.way, hard=options.limit_hard, progress=progress,
            )
            for path in (output, *options.also)
        ]  # fmt: skip
    done = made[0]
    progress.done()
    words = tuple(f"{step.tool.title}: {step.tool.caption(step.settings)}" for step in steps if step.enabled)
    if report is not None:
        write_text(report, REPORTS.get(report.suffix.lower(), report_html)(done, words))
    if options.json:
        rows = [report_content(one, words) for one in made]
        return Result((json.dumps(rows[0] if len(rows) == 1 else rows, indent=1),))
    notes = [f"  {trial.sentence}" for trial in trials]
    notes += [note for note in (programme.media.warning, cleaned_note(cleaned=programme.media.source.cleaned)) if note]
    return Result((*(line for one in made for line in _told(one)), *notes))


def _one_programme(
    made: Assembled, output: Path, report: Path | None, target: Target, options: argparse.Namespace,
    progress: TerminalProgress, *, overwrite: bool,
) -> Result:  # fmt: skip
    """Deliver a programme of a project; returns what to tell."""
    if options.keep or options.recipe or options.treat or options.recording:
        message = "--keep, --recipe, --treat and --recording belong to recordings; a programme is delivered as it is assembled."
        raise DeliveryError(message)
    outputs = (output, *options.also)
    for path in outputs:
        for file in paths_of(path, deliverable_of(options, path), made.metadata.markers, made.source.frames):
            check_output(file, inputs=made.inputs, overwrite=overwrite)
        if is_picture(path) and made.metadata.picture is None:
            message = "The programme has no video, or it is gone. Choose one in the Assembly, or a name that ends in .wav or .flac."
            raise DeliveryError(message)
    names = (DUAL_MONO,) if options.dual_mono and made.programme.channels == 1 else made.names
    worked = kept(made.source, lambda share: progress(share, "rendering")) if options.also else nullcontext(made.source)
    with worked as source:
        done = [
            deliver(
                beside_film(made.programme, source) if is_picture(path) else source,
                target, path, wanted=deliverable_of(options, path), names=names, metadata=made.metadata,
                way=options.way, hard=options.limit_hard, progress=progress,
            )
            for path in outputs
        ]  # fmt: skip
    progress.done()
    words = tuple(
        f"{step.tool.title}: {step.tool.caption(step.settings)}" for step in made.programme.steps if step.enabled
    )
    if report is not None:
        write_text(report, REPORTS.get(report.suffix.lower(), report_html)(done[0], words))
    if options.json:
        rows = [report_content(one, words) for one in done]
        return Result((json.dumps(rows[0] if len(rows) == 1 else rows, indent=1),))
    return Result((*(line for one in done for line in _told(one)), *made.notes))


@contextmanager
def _told_of(media: OpenMedia) -> Iterator[None]:
    """A refusal says as well that samples were read as silence: that may be why."""
    try:
        yield
    except DeliveryError as error:
        if media.source.cleaned:
            message = f"{error} {cleaned_note(cleaned=True)}"
            raise DeliveryError(message) from error
        raise


def _report_path(options: argparse.Namespace, output: Path) -> Path | None:
    if options.report is None:
        return None
    report: Path = options.report
    several = options.several or report.is_dir()
    return report / f"{output.stem}.html" if several else report


def _told(done: Delivered) -> list[str]:
    plan = done.plan
    limiting = (
        f", limited by up to {plan.largest_reduction_db:.1f} dB"
        if plan.limited and plan.largest_reduction_db > 0
        else ", not limited"
    )
    levelled = f", levelled by {100 * plan.levelled:.0f} %" if plan.levelled else ""
    lines = [
        f"{', '.join(file.name for file in done.files)}: {plan.target.title}, gain {format_number(plan.gain_db, 2, plus=True)} dB{levelled}{limiting}"
    ]
    if plan.speech_percent is not None:
        lines.append(f"  Speech only: {plan.speech_percent:.0f} % of the programme.")
    lines += [f"  {v.name:<20}{format_number(v.measured):>8}  {v.limit:<22} {v.words}" for v in done.verdicts]
    lines += [f"  {note}" for note in (*plan.cautions, *done.notes)]
    lines.append("Verified from the written file." + (" Corrected once." if done.corrected else ""))
    return lines

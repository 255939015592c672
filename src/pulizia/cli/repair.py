"""`pulizia repair`: a recipe applied to files."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from pulizia.audio.spans import clipped
from pulizia.cli.measure import cleaned_note
from pulizia.cli.progress import TerminalProgress
from pulizia.delivery.deliver import check_output, write_source
from pulizia.errors import RecipeError
from pulizia.media.open import open_media
from pulizia.media.write import SampleFormat
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.recipes import Recipe, read_recipe

FORMATS: dict[str, SampleFormat] = {"16": "int16", "24": "int24", "float": "float32"}


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("repair", help="apply a recipe to one or several files")
    command.add_argument("files", type=Path, nargs="+")
    command.add_argument("--recipe", type=Path, required=True, help="the recipe's JSON file")
    command.add_argument("-o", "--output", type=Path, required=True,
                         help="the file to write; a folder for several files")  # fmt: skip
    command.add_argument("--format", choices=("wav", "flac"), help="kind of file in a folder (wav)")
    command.add_argument("--bits", choices=tuple(FORMATS), default="24", help="sample format (24)")
    command.add_argument("--overwrite", action="store_true", help="replace existing outputs")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Repair every file, in order; the first fault ends it."""
    recipe = read_recipe(options.recipe)
    targets = _targets(options)
    for path, target in zip(options.files, targets, strict=True):
        check_output(target, inputs=options.files, overwrite=options.overwrite)
        repair(path, recipe, target, FORMATS[options.bits])
    return 0


def repair(path: Path, recipe: Recipe, target: Path, sample_format: SampleFormat) -> None:
    """Apply a recipe to one file and write the result."""
    progress = TerminalProgress(path.name)
    media = open_media(path, progress)
    source = media.source
    steps = recipe.steps_for(source.rate)
    for number, step in enumerate(steps, 1):
        if step.spans is not None and not clipped(step.spans, source.frames):
            message = (
                f"step {number} ({step.tool_id}): its spans lie outside {path.name}, "
                f"which is {source.frames / source.rate:.2f} s long."
            )
            raise RecipeError(message)
    chain = Chain(source, steps, ChunkCache(), AnalysisStore())
    chain.prepare(lambda share: progress(share, "listening"))
    write_source(chain.after, target, sample_format, lambda share: progress(share, "repairing"), markers=media.markers)
    progress.done()
    print(f"{path.name}: {len(chain.stages)} steps applied, written to {target}")
    if note := cleaned_note(source.cleaned):
        print(note)


def _targets(options: argparse.Namespace) -> list[Path]:
    output: Path = options.output
    if len(options.files) == 1 and not output.is_dir():
        suffix = f".{options.format}" if options.format and not output.suffix else ""
        return [output.with_name(output.name + suffix)]
    output.mkdir(exist_ok=True) if output.parent.is_dir() and not output.exists() else None
    kind = options.format or "wav"
    return [output / f"{path.stem}.{kind}" for path in options.files]

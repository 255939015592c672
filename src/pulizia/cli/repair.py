# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia repair`: a recipe, or a step for each trouble that is found, applied to files."""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path
from typing import Any

from pulizia.audio.spans import clipped
from pulizia.batch.runner import Result
from pulizia.cli.batch import add_batch_flags, for_workers, order_of, run_batch
from pulizia.cli.measure import cleaned_note
from pulizia.cli.outputs import add_keep_flag, add_output_flags, deliverable_of, output_paths
from pulizia.cli.parsing import seconds
from pulizia.cli.progress import TerminalProgress
from pulizia.cli.treating import treating
from pulizia.delivery.deliver import check_output, cut_words, write_source
from pulizia.delivery.deliverable import prepared
from pulizia.delivery.metadata import moved_to
from pulizia.errors import RecipeError
from pulizia.media.ahead import made_ahead
from pulizia.media.broadcast import Loudness
from pulizia.media.open import OpenMedia, open_media
from pulizia.project.model import Recording
from pulizia.project.processed import CHUNK_BYTES, Processed, trimmed
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.recipe_library import find_recipe
from pulizia.score.recipes import Recipe
from pulizia.score.steps import Step


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("repair", help="apply a recipe to one or several files")
    command.add_argument("files", type=Path, nargs="+")
    how = command.add_mutually_exclusive_group(required=True)
    how.add_argument(
        "--recipe", help="a recipe's JSON file, or the name of a shipped or own one; see `pulizia recipes`"
    )
    how.add_argument("--treat", action="store_true", help="inspect each file and treat the problems that are found")
    command.add_argument(
        "--noise",
        type=seconds,
        nargs=2,
        metavar=("FROM", "TO"),
        help="where only noise is heard, in seconds, for steps that need a noise sample (found automatically)",
    )
    command.add_argument("-o", "--output", type=Path, required=True,
                         help="the file to write; a folder for several files")  # fmt: skip
    add_keep_flag(command)
    add_output_flags(command, pictures=False)
    add_batch_flags(command, writes=True)
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Repair every file; a fault of one does not stop the others."""
    recipe = None if options.treat else find_recipe(options.recipe)
    if options.noise is not None:
        if recipe is None or not 0 <= options.noise[0] < options.noise[1]:
            message = "--noise takes FROM and TO in seconds, FROM before TO, and goes with a recipe."
            raise RecipeError(message)
        recipe = recipe.placed(tuple(options.noise), [(n, name) for n, name, _ in recipe.open_places()])
    targets = output_paths(options.files, options.output, options.format)
    for target in targets:
        deliverable_of(options, target)
    work = partial(repair, recipe=recipe, options=for_workers(options))
    return run_batch(work, options.files, targets, options, order=order_of(options, recipe))[0]


def repair(
    path: Path, target: Path | None, *, overwrite: bool, recipe: Recipe | None, options: argparse.Namespace
) -> Result:
    """Apply a recipe, or treat what is found, and write the result; returns what to tell."""
    assert target is not None  # noqa: S101 - repairs are always written
    check_output(target, inputs=[path], overwrite=overwrite)
    wanted = deliverable_of(options, target)
    progress = TerminalProgress(path.name)
    media = open_media(path, progress)
    cache, store = ChunkCache(CHUNK_BYTES), AnalysisStore()
    if recipe is None:
        steps, trials = treating(media.source, media.channel_names, cache, store, progress)
    else:
        steps, trials = _steps_of(recipe, media), ()
    chain = Chain(media.source, steps, cache, store)
    chain.prepare(lambda share: progress(share, "listening"))
    recording = trimmed(Recording.of_media(media), options.keep)
    with made_ahead(chain.after) as sound:
        programme = Processed(sound=sound, recording=recording, media=media)
        ready = prepared(programme.kept, wanted, names=media.channel_names)
        metadata = moved_to(programme.metadata, programme.kept, ready, wanted)
        cut = write_source(
            ready, target, wanted, lambda share: progress(share, "repairing"), metadata=metadata, loudness=Loudness()
        )
    progress.done()
    names = f" ({', '.join(step.tool_id for step in steps)})" if recipe is None and steps else ""
    count = len(chain.stages)
    applied = "1 step" if count == 1 else f"{count} steps"
    lines = [f"{path.name}: {applied} applied{names}, written to {target}"]
    lines += [f"  {trial.sentence}" for trial in trials]
    lines += [note for note in (media.warning, cleaned_note(cleaned=media.source.cleaned), cut_words(cut)) if note]
    return Result(tuple(lines))


def _steps_of(recipe: Recipe, media: OpenMedia) -> tuple[Step, ...]:
    source = media.source
    steps = recipe.steps_for(source.rate)
    for number, step in enumerate(steps, 1):
        if step.spans is not None and not clipped(step.spans, source.frames):
            message = (
                f"step {number} ({step.tool_id}): its spans lie outside {media.path.name}, "
                f"which is {source.frames / source.rate:.2f} s long."
            )
            raise RecipeError(message)
    return steps

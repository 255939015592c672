# SPDX-License-Identifier: GPL-3.0-or-later
"""What the command line does with `--treat`: a step for each problem that is found, where it helps."""

from __future__ import annotations

from collections.abc import Sequence

from pulizia.audio.source import Source
from pulizia.cli.progress import TerminalProgress
from pulizia.inspection.inspect import inspect
from pulizia.inspection.microphones import microphones
from pulizia.inspection.treat import Trial, treatment
from pulizia.media.ahead import threads
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore
from pulizia.score.steps import Step, make_step

RAISING = {"overload", "leveller", "dull_voice"}  # after which peaks may lie above full scale


def treating(
    source: Source, names: Sequence[str], cache: ChunkCache, store: AnalysisStore, progress: TerminalProgress
) -> tuple[tuple[Step, ...], tuple[Trial, ...]]:
    """The steps that treat what is found in a source with channels of these names, and what was tried.

    What was rendered and learned meanwhile stays in ``cache`` and ``store``.
    """
    alone = microphones(source, names)
    found = inspect(source, progress, workers=threads(), alone=alone)
    made = treatment(
        source, found, known=(), alone=alone, cache=cache, store=store,
        progress=lambda share, what: progress(share, f"trying {what}"),
    )  # fmt: skip
    steps = list(made.steps)
    if RAISING & {step.tool_id for step in steps}:
        steps.append(make_step("limiter"))  # which does nothing where nothing comes near full scale
    return tuple(steps), made.trials

# SPDX-License-Identifier: GPL-3.0-or-later
"""Tools of other packages, found by their entry point, and kept from breaking anything.

A package declares ``[project.entry-points."pulizia.tools"]`` with ``name = "module:TOOL"``. What cannot be loaded,
or fails while it works, is switched off with a sentence; the rest of the program goes on.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace
from importlib.metadata import EntryPoint, entry_points
from typing import Any

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.errors import AnalysisError, PuliziaError
from pulizia.media.faults import note_fault
from pulizia.settings.declare import declared
from pulizia.tools.absent import ID
from pulizia.tools.base import AnyTool, Block, Tool
from pulizia.tools.finding import Finding
from pulizia.words import tr

GROUP = "pulizia.tools"
LONGEST_SHOWN = 200
_failures: dict[str, str] = {}


def failure_of(tool_id: str) -> str:
    """Why a tool was switched off since the program began; "" for tools that work."""
    return _failures.get(tool_id, "")


def found_tools(shipped: Collection[AnyTool]) -> tuple[tuple[AnyTool, ...], tuple[str, ...]]:
    """The tools of other packages, and a sentence for each that cannot be used."""
    tools: dict[str, AnyTool] = {}
    taken = {tool.id for tool in shipped}
    kinds = {problem.kind for tool in shipped for problem in tool.problems}
    problems: list[str] = []
    for entry in sorted(entry_points(group=GROUP), key=lambda entry: entry.name):
        try:
            tool = _loaded(entry)
            if tool.id in taken or tool.id in tools:
                message = tr("another tool has the id {tool_id}", tool_id=tool.id)
                raise AnalysisError(message)  # noqa: TRY301 - told with the others
            own = {problem.kind for problem in tool.problems}
            if own & kinds:
                message = tr("another tool finds problems of the kind {kind}", kind=min(own & kinds))
                raise AnalysisError(message)  # noqa: TRY301 - told with the others
            kinds |= own
            tools[tool.id] = guarded(tool)
        except PuliziaError as error:
            problems.append(_off(entry, str(error)))
        except Exception as error:  # noqa: BLE001 - whatever it is, it is the other package's
            problems.append(_off(entry, f"{type(error).__name__}: {error}"))
    return tuple(tools.values()), tuple(problems)


def _loaded(entry: EntryPoint) -> AnyTool:
    tool = entry.load()
    if not isinstance(tool, Tool) or not ID.fullmatch(tool.id):
        message = tr("{value} is no tool with an id of small letters", value=entry.value)
        raise AnalysisError(message)
    settings: Any = tool.settings
    declared(settings)
    tool.caption(settings())
    return tool


def _off(entry: EntryPoint, why: str) -> str:
    package = entry.dist.name if entry.dist is not None else entry.value
    return tr(
        "The tool {name} of the package {package} is switched off: {why}. Update or remove that package.",
        name=entry.name,
        package=package,
        why=why.rstrip("."),
    )


def guarded(tool: AnyTool) -> AnyTool:
    """The tool with every function of it watched: the first fault switches it off."""

    def process(block: Block, settings: Any, analysis: Any) -> Samples:  # noqa: ANN401 - of the tool
        made = np.asarray(_watched(tool, tool.process)(block, settings, analysis))
        if made.shape != block.samples.shape or made.dtype.kind != "f":
            raise _switched_off(tool, ValueError(f"samples of shape {made.shape} and type {made.dtype}"))
        return np.ascontiguousarray(made, dtype=np.float32)

    def find(source: Source, progress: Callable[[float], None]) -> list[Finding]:
        if tool.find is None:
            return []
        found = list(_watched(tool, tool.find)(source, progress))
        kinds = {problem.kind for problem in tool.problems}
        if not all(isinstance(one, Finding) and one.kind in kinds for one in found):
            raise _switched_off(tool, ValueError("findings of kinds that it does not declare"))
        return found

    functions: dict[str, Any] = {
        name: _watched(tool, function)
        for name in (
            "analyse",
            "margin",
            "analysis_places",
            "picture",
            "analysis_around",
            "survey",
            "suggest",
            "stream",
            "mix",
            "carried",
        )
        if (function := getattr(tool, name)) is not None
    }
    return replace(
        tool,
        process=process,
        caption=_or_nothing(tool.caption),
        find=find if tool.find is not None else None,
        **functions,
    )


def _watched(tool: AnyTool, function: Callable[..., Any]) -> Callable[..., Any]:
    def watched(*given: Any) -> Any:  # noqa: ANN401 - of the tool
        if told := failure_of(tool.id):
            raise AnalysisError(told)
        try:
            return function(*given)
        except PuliziaError:
            raise
        except Exception as error:
            if type(error).__module__ == "pulizia.errors":  # a person has stopped it
                raise
            raise _switched_off(tool, error) from error

    return watched


def _switched_off(tool: AnyTool, error: Exception) -> AnalysisError:
    note_fault(error, tool.title)
    what = f"{type(error).__name__}: {error}"[:LONGEST_SHOWN]
    told = tr(
        "{title} is switched off: it failed ({error}). It is a tool of another package; update that, or switch the step off.",
        title=tool.title,
        error=what,
    )
    _failures[tool.id] = told
    return AnalysisError(told)


def _or_nothing(function: Callable[[Any], str]) -> Callable[[Any], str]:
    def words(settings: Any) -> str:  # noqa: ANN401 - of the tool
        try:
            return str(function(settings))
        except Exception:  # noqa: BLE001 - a strip without a caption is no harm
            return ""

    return words

# SPDX-License-Identifier: GPL-3.0-or-later
"""What stands in a project for a tool whose package is not installed: its settings are kept, word for word."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.errors import AnalysisError
from pulizia.settings.declare import Kept, Settings
from pulizia.tools.base import AnyTool, Block, Progress, Tool
from pulizia.words import N_, tr

ID = re.compile(r"[a-z][a-z0-9_]{0,63}")


@dataclass(frozen=True, slots=True, kw_only=True)
class AbsentSettings(Settings):
    """The settings of a tool that is not there, as the project file has them."""

    text: str = field(default="{}", metadata={"declared": Kept()})
    version: str = field(default="1", metadata={"declared": Kept()})


def absent(tool_id: str) -> AnyTool:
    """A tool that keeps its place and its settings, and says what is missing where it would have to sound."""

    def refused() -> AnalysisError:
        return AnalysisError(
            tr(
                "The tool {tool_id} is not installed. Install the package that has it, or switch this step off.",
                tool_id=tool_id,
            )
        )

    def analyse(_source: Source, _spans: Sequence[Span], _settings: AbsentSettings, _progress: Progress) -> None:
        raise refused()

    def process(_block: Block, _settings: AbsentSettings, _analysis: object) -> Samples:
        raise refused()

    return Tool(
        id=tool_id,
        title=tool_id.replace("_", " ").capitalize(),
        summary=N_("A tool that is not installed here."),
        settings=AbsentSettings,
        order=99,
        process=process,
        analyse=analyse,
        caption=lambda _settings: tr("not installed"),
    )

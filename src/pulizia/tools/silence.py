# SPDX-License-Identifier: GPL-3.0-or-later
"""Silence: the marked stretch becomes silent."""

from __future__ import annotations

from dataclasses import dataclass

from pulizia.audio.samples import Samples
from pulizia.settings.declare import Settings, number
from pulizia.tools.base import Block, Tool
from pulizia.units import Unit, db_to_gain, format_number
from pulizia.words import tr

FULL_DB = 90.0


@dataclass(frozen=True, slots=True, kw_only=True)
class SilenceSettings(Settings):
    """How far down."""

    reduction_db: float = number(
        FULL_DB, unit=Unit.DB, low=0.0, high=FULL_DB, step=1.0, label="Reduction",
        help="Attenuation; the highest value is digital silence. Room tone can fill it.",
    )  # fmt: skip


def process(block: Block, settings: SilenceSettings, _analysis: None) -> Samples:
    """Turn a block down."""
    return block.samples * (0.0 if settings.reduction_db >= FULL_DB else db_to_gain(-settings.reduction_db))


def caption(settings: SilenceSettings) -> str:
    """Short text on the strip."""
    return tr("silent") if settings.reduction_db >= FULL_DB else f"{format_number(-settings.reduction_db, 0)} dB"


TOOL = Tool(
    id="silence",
    title="Silence",
    summary="Silences the selection.",
    settings=SilenceSettings,
    order=76,
    family="edits",
    process=process,
    caption=caption,
    shapes_tone=True,
)

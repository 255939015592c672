# SPDX-License-Identifier: GPL-3.0-or-later
"""The recommended order of steps, and a word where an order is known to harm."""

from __future__ import annotations

from collections.abc import Sequence

from pulizia.score.steps import Step
from pulizia.words import N_

HARMFUL: tuple[tuple[str, str, str], ...] = (
    ("limiter", "equaliser", N_("The equaliser after the limiter can raise peaks above the ceiling again. Move Limiter after it.")),
    ("limiter", "level", N_("Level after the limiter can raise peaks above the ceiling again. Move Limiter after it.")),
    ("limiter", "split_compressor", N_("Make-up gain after the limiter can raise peaks above the ceiling again. Move Limiter after it.")),
    ("room_tail", "gate", N_("After Room tail, word ends are weaker and the gate may cut them. Move Gate before it.")),
    ("gate", "hum", N_("Hum is measured between words, where the gate is closed. Move Hum before Gate.")),
    ("noise", "hum", N_("Noise would treat the hum as noise and thin the voice. Move Hum before Noise.")),
    ("noise", "clicks", N_("Noise smears clicks, so fewer are found. Move Clicks before Noise.")),
    ("equaliser", "overload", N_("Clipped peaks are only found before the equaliser changes their level. Move Clipping to the top.")),
    ("level", "overload", N_("Move Clipping to the top: it looks for clipped peaks as they were recorded.")),
    ("leveller", "noise", N_("Leveller makes the noise floor follow the phrases, so the learned noise no longer fits. Move Noise before it.")),
    ("split_compressor", "noise", N_("Compression raises the noise between words. Move Noise before it.")),
    ("split_compressor", "sibilance", N_("Sibilance is judged relative to the voice, which the compressor has evened out. Move Sibilance before it.")),
    ("gate", "noise", N_("Noise is learned in the pauses, which the gate has turned down: much of it stays under the voice. Move Noise before Gate.")),
    ("room_tone", "gate", N_("The gate turns the room tone down again. Move Gate before Room tone.")),
)  # fmt: skip
"""(what comes first, what comes later, why that harms): common practice, or measured (docs/repairs.md), each with what to do."""


def order_note(score: Sequence[Step], step_id: str) -> str:
    """A sentence when the place of a step is known to harm; "" otherwise."""
    active = [s for s in score if s.enabled or s.id == step_id]
    place = next((n for n, s in enumerate(active) if s.id == step_id), None)
    if place is None:
        return ""
    own = active[place].tool_id
    earlier, later = {s.tool_id for s in active[:place]}, {s.tool_id for s in active[place + 1 :]}
    for first, second, why in HARMFUL:
        if (own == second and first in earlier) or (own == first and second in later):
            return why
    return ""

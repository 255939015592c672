"""The recommended order of steps, and a word where an order is known to harm."""

from __future__ import annotations

from collections.abc import Sequence

from pulizia.score.steps import Step

HARMFUL: tuple[tuple[str, str, str], ...] = (
    ("limiter", "equaliser", "The equaliser after the limiter can lift peaks over the ceiling again. Move the limiter below it."),
    ("limiter", "level", "Level after the limiter can lift peaks over the ceiling again. Move the limiter below it."),
    ("limiter", "split_compressor", "Make-up after the limiter can lift peaks over the ceiling again. Move the limiter below it."),
    ("room_tail", "gate", "The gate after Room tail hears ends of words that are weaker than they were. Move the gate above it."),
    ("gate", "hum", "Hum is measured between the words, which the gate has closed. Move Hum above the gate."),
    ("noise", "hum", "Noise takes hum for noise and thins the voice around it. Move Hum above Noise."),
    ("noise", "clicks", "Noise smears clicks so that they are found less well. Move Clicks above Noise."),
    ("equaliser", "overload", "Flattened tops are only found before the equaliser changes their level. Move Overload to the top."),
    ("level", "overload", "Move Overload to the top: it looks for tops as they were recorded."),
    ("leveller", "noise", "The leveller moves the noise with the phrases, so that Noise no longer knows it. Move Noise above it."),
    ("split_compressor", "noise", "Compression lifts the noise between words. Move Noise above it."),
    ("split_compressor", "sibilance", "Sibilance is judged beside the voice, which the compressor has evened. Move Sibilance above it."),
    ("gate", "noise", "Noise is learned in the pauses, which the gate has turned down: much of it stays under the voice. Move Noise above it."),
    ("room_tone", "gate", "The gate turns the room tone down again. Move it above Room tone."),
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

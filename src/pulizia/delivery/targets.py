# SPDX-License-Identifier: GPL-3.0-or-later
"""The loudness rules that programmes must meet: an open table, each row with its document."""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Callable
from dataclasses import asdict, dataclass, fields
from importlib.resources import files
from pathlib import Path
from typing import Any

from pulizia.data.json_text import parsed
from pulizia.errors import DeliveryError, UnknownNameError
from pulizia.words import tr

RANGES = {
    "integrated_lufs": (-50.0, -5.0), "tolerance_lu": (0.0, 10.0), "true_peak_dbtp": (-20.0, 0.0),
    "short_term_max_lufs": (-50.0, 0.0), "momentary_max_lufs": (-50.0, 3.0), "loudness_range_max_lu": (1.0, 60.0),
}  # fmt: skip
"""What a rule can ask for and a programme can still be."""
SCALES = ("LUFS", "LKFS")
ID_PATTERN = r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}"
LONGEST_TEXT = 4000


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """One rule. None means that the document sets no limit.

    ``tolerance_lu`` is either side of ``integrated_lufs``.
    """

    id: str
    title: str
    integrated_lufs: float
    tolerance_lu: float
    true_peak_dbtp: float
    short_term_max_lufs: float | None = None
    momentary_max_lufs: float | None = None
    loudness_range_max_lu: float | None = None
    scale: str = "LUFS"
    gate: str = "programme"  # or "dialogue": only speech counts
    date: str = ""  # of the document
    purpose: str = ""
    source: str = ""
    checked: bool = False  # whether the figures were compared with the document itself


def unchecked_note(target: Target) -> str:
    """A sentence where the figures of a document still have to be compared with it; "" elsewhere."""
    documents = ("EBU", "ATSC", "AES", "ARIB", tr("Free TV"))
    if target.checked or not any(name in target.source for name in documents):
        return ""
    return tr("Not yet checked against the document.")


def read_targets(text: str, name: str) -> list[Target]:
    """Targets from the JSON text of a file called ``name``.

    Raises
    ------
    DeliveryError
        With what is wrong and where.
    """
    content = parsed(text, name, DeliveryError, tr("Correct it or remove it."))
    rows = content.get("targets") if isinstance(content, dict) else None
    if not isinstance(rows, list):
        message = tr('{name} has no list "targets". Correct it or remove it.', name=name)
        raise DeliveryError(message)
    return [_target(row, name, number) for number, row in enumerate(rows, 1)]


def _target(row: Any, name: str, number: int) -> Target:  # noqa: ANN401 - JSON
    known = {f.name: f.type for f in fields(Target)}
    if not isinstance(row, dict):
        message = tr("{name}: target {number} is not a table of names and values.", name=name, number=number)
        raise DeliveryError(message)
    for key, value in row.items():
        if key not in known:
            near = difflib.get_close_matches(str(key), known, n=1)
            message = (
                tr(
                    "{name}: target {number} has an unknown entry {key}. Did you mean {near}?",
                    name=name,
                    number=number,
                    key=key,
                    near=near[0],
                )
                if near
                else tr("{name}: target {number} has an unknown entry {key}.", name=name, number=number, key=key)
            )
            raise DeliveryError(message)
        if known[key] == "bool":
            if not isinstance(value, bool):
                message = tr(
                    "{name}: target {number}: {key} is {value!r}, must be true or false.",
                    name=name,
                    number=number,
                    key=key,
                    value=value,
                )
                raise DeliveryError(message)
            continue
        is_text = known[key] == "str"
        number_ok = isinstance(value, int | float) and not isinstance(value, bool) and abs(value) < 1e3
        if isinstance(value, str) != is_text and not (value is None and "None" in str(known[key])):
            message = tr(
                "{name}: target {number}: {key} is {value!r}, which is of the wrong kind.",
                name=name,
                number=number,
                key=key,
                value=value,
            )
            raise DeliveryError(message)
        if not is_text and value is not None and not number_ok:
            message = tr(
                "{name}: target {number}: {key} is {value!r}, must be a number.",
                name=name,
                number=number,
                key=key,
                value=value,
            )
            raise DeliveryError(message)
    needed = ("id", "title", "integrated_lufs", "tolerance_lu", "true_peak_dbtp")
    missing = [key for key in needed if key not in row]
    if missing:
        message = tr("{name}: target {number} lacks {missing}.", name=name, number=number, missing=", ".join(missing))
        raise DeliveryError(message)
    if row.get("gate", "programme") not in ("programme", "dialogue"):
        message = tr(
            '{name}: target {number}: gate is {row!r}, must be "programme" or "dialogue".',
            name=name,
            number=number,
            row=row["gate"],
        )
        raise DeliveryError(message)
    _check_values(row, name, number)
    return Target(**row)


def _check_values(row: dict[str, Any], name: str, number: int) -> None:
    """Refuse what no rule asks for."""
    for key, (low, high) in RANGES.items():
        value = row.get(key)
        if value is not None and not low <= value <= high:
            message = tr(
                "{name}: target {number} ({row}): {key} is {value:g}, must be between {low:g} and {high:g}.",
                name=name,
                number=number,
                row=row["id"],
                key=key,
                value=value,
                low=low,
                high=high,
            )
            raise DeliveryError(message)
    if not re.fullmatch(ID_PATTERN, row["id"]):
        message = tr(
            "{name}: target {number}: the id {row!r} must be made of letters, digits, dots and dashes.",
            name=name,
            number=number,
            row=row["id"][:40],
        )
        raise DeliveryError(message)
    if row.get("scale", "LUFS") not in SCALES:
        message = tr(
            '{name}: target {number} ({row}): scale must be "LUFS" or "LKFS", not {value!r}.',
            name=name,
            number=number,
            row=row["id"],
            value=row["scale"][:40],
        )
        raise DeliveryError(message)
    if too_long := [key for key, value in row.items() if isinstance(value, str) and len(value) > LONGEST_TEXT]:
        message = tr(
            "{name}: target {number} ({row}): {too_long} is longer than {longest_text} characters.",
            name=name,
            number=number,
            row=row["id"],
            too_long=too_long[0],
            longest_text=LONGEST_TEXT,
        )
        raise DeliveryError(message)


def shipped_targets() -> list[Target]:
    """The targets that come with the program."""
    text = files("pulizia.data").joinpath("targets.json").read_text(encoding="utf-8")
    return read_targets(text, "targets.json")


def all_targets(own_folder: Path | None = None) -> dict[str, Target]:
    """Shipped and own targets by id; an own one replaces a shipped one of the same id."""
    found = {target.id: target for target in shipped_targets()}
    if own_folder is not None:
        for path in sorted(own_folder.glob("*.json")):
            try:
                text = path.read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError) as error:
                message = tr(
                    "{name} in {own_folder} cannot be read. Correct it or remove it.",
                    name=path.name,
                    own_folder=own_folder,
                )
                raise DeliveryError(message) from error
            found |= {target.id: target for target in read_targets(text, path.name)}
    return found


def target_of(target_id: str, own_folder: Path | None = None) -> Target:
    """The target with this id.

    Raises
    ------
    DeliveryError
        When there is none, with the nearest known one.
    """
    known = all_targets(own_folder)
    if target_id in known:
        return known[target_id]
    near = difflib.get_close_matches(target_id, known, n=1)
    message = (
        tr("There is no target {target_id}; did you mean {near}?", target_id=target_id, near=near[0])
        if near
        else tr("There is no target {target_id}; known are {known}.", target_id=target_id, known=", ".join(known))
    )
    raise UnknownTargetError(message)


class UnknownTargetError(DeliveryError, UnknownNameError):
    """There is no target of this name."""


def as_table(target: Target) -> dict[str, Any]:
    """The target as plain JSON values."""
    return asdict(target)


def own_targets_text(targets: list[Target]) -> str:
    """The text of a file of own targets."""
    return json.dumps({"targets": [as_table(target) for target in targets]}, indent=1, ensure_ascii=False) + "\n"


OWN_FILE = "own.json"


def save_own(target: Target, folder: Path, write: Callable[[Path, str], None]) -> None:
    """Keep an own target in the user's folder, in place of one with the same id.

    Raises
    ------
    DeliveryError
        When it is out of range, or a shipped target has this id.
    """
    if target.id in {t.id for t in shipped_targets()}:
        message = tr("{name} is the id of a shipped target. Choose another name.", name=target.id)
        raise DeliveryError(message)
    path = folder / OWN_FILE
    known = read_targets(path.read_text(encoding="utf-8"), path.name) if path.exists() else []
    rows = [t for t in known if t.id != target.id] + [target]
    text = own_targets_text(rows)
    read_targets(text, path.name)  # what would be refused later is refused now
    write(path, text)


def remove_own(target_id: str, folder: Path, write: Callable[[Path, str], None]) -> bool:
    """Take an own target away; False when it is not one."""
    path = folder / OWN_FILE
    known = read_targets(path.read_text(encoding="utf-8"), path.name) if path.exists() else []
    rows = [t for t in known if t.id != target_id]
    if len(rows) == len(known):
        return False
    write(path, own_targets_text(rows))
    return True

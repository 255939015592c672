# SPDX-License-Identifier: GPL-3.0-or-later
"""Any edit list from a file: its kind by suffix and content."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

from pulizia.interchange.aaf_read import read_aaf
from pulizia.interchange.csv_list import read_csv
from pulizia.interchange.edit_list import LARGEST_BYTES, EditList, EditListError, checked, stated_rate
from pulizia.interchange.edl import read_edl
from pulizia.interchange.otio import read_otio
from pulizia.interchange.xml import read_xml
from pulizia.words import tr

KINDS = {".edl": "edl", ".xml": "xml", ".otio": "otio", ".aaf": "aaf", ".csv": "csv", ".tsv": "csv"}
WITHOUT_RATE = (".edl", ".csv", ".tsv")
AAF_MAGIC = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"


def is_edit_list(path: Path) -> bool:
    """Whether a file has the suffix of an edit list."""
    return path.suffix.lower() in KINDS


def read_edit_list(
    path: Path,
    *,
    rate: Fraction | None = None,
    drop: bool | None = None,
    extract_to: Callable[[str], Path] | None = None,
) -> tuple[EditList, bytes]:
    """A list and its bytes.

    Parameters
    ----------
    rate, drop
        Picture rate and drop-frame counting of lists that do not say (EDL, CSV but those of this program); None is 25, and
        what the list counts.
    extract_to
        Gives the path for sound that is inside the list.

    Raises
    ------
    EditListError
        One sentence: missing, of another kind, damaged, too large, or without sound.
    """
    try:
        if path.stat().st_size > LARGEST_BYTES and path.suffix.lower() != ".aaf":
            message = tr("{name} is too large for an edit list. Choose another file.", name=path.name)
            raise EditListError(message)
        data = b"" if path.stat().st_size > LARGEST_BYTES else path.read_bytes()
    except FileNotFoundError as error:
        message = tr("{path} does not exist. Check the name of the list.", path=path)
        raise EditListError(message) from error
    except OSError as error:
        message = tr("{name} cannot be read as an edit list.", name=path.name)
        raise EditListError(message) from error
    kind = KINDS.get(path.suffix.lower())
    if data.startswith(AAF_MAGIC):
        kind = "aaf"
    if kind is None:
        message = tr("{name} is no edit list. Lists end in {known}.", name=path.name, known=", ".join(sorted(KINDS)))
        raise EditListError(message)
    if kind == "aaf":
        return checked(read_aaf(path, extract_to)), data
    if kind == "xml":
        return checked(read_xml(data, path.stem)), data
    text = _text(data, path)
    if kind == "otio":
        return checked(read_otio(text, path.stem)), data
    if kind == "edl":
        return checked(read_edl(text, path.stem, rate or Fraction(25), drop=drop)), data
    return checked(read_csv(text, path.stem, rate or Fraction(25), drop=bool(drop))), data


def says_rate(path: Path) -> bool:
    """Whether a list states its picture rate, or one of this program does in a comment."""
    if path.suffix.lower() not in WITHOUT_RATE:
        return True
    try:
        with path.open("rb") as file:
            return stated_rate(file.read(4096).decode("latin-1")) is not None
    except OSError:
        return False


def _text(data: bytes, path: Path) -> str:
    for coding in ("utf-8-sig", "latin-1"):
        try:
            text = data.decode("utf-16") if data[:2] in (b"\xff\xfe", b"\xfe\xff") else data.decode(coding)
        except UnicodeDecodeError:
            continue
        if "\0" not in text:
            return text
    message = tr("{name} cannot be read as text. Export the list again.", name=path.name)
    raise EditListError(message)

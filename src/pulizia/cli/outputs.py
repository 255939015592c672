# SPDX-License-Identifier: GPL-3.0-or-later
"""Flags that say what an output file is like, and the deliverable made from them."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from pulizia.audio.pop import BEFORE_S
from pulizia.cli.parsing import seconds
from pulizia.delivery.deliver import check_name, check_output
from pulizia.delivery.deliverable import KIND_OF_SUFFIX, Deliverable, Kind, kind_of_path
from pulizia.errors import DeliveryError
from pulizia.interchange.edit_list import rate_named
from pulizia.media.encode import BITRATES
from pulizia.media.write import Dither, SampleFormat
from pulizia.project.file import SUFFIX

FORMATS: dict[str, SampleFormat] = {"16": "int16", "24": "int24", "float": "float32"}
DITHERS: dict[str, Dither] = {"none": "none", "triangular": "triangular", "shaped": "shaped"}
ENDINGS = tuple(suffix.lstrip(".") for suffix in KIND_OF_SUFFIX)
PICTURE_ENDINGS = ("mp4", "mov", "mkv")


def add_output_flags(command: argparse.ArgumentParser, *, pictures: bool) -> None:
    """Declare the flags."""
    endings = (*ENDINGS, *PICTURE_ENDINGS) if pictures else ENDINGS
    command.add_argument("--format", choices=endings, help="kind of file in a folder (wav)")
    command.add_argument("--bits", choices=tuple(FORMATS), default="24", help="sample format of WAV and FLAC (24)")
    command.add_argument("--dither", choices=tuple(DITHERS), default="triangular", help="for 16 bits (triangular)")
    command.add_argument("--rate", type=int, metavar="HZ", help="sample rate (that of the input)")
    command.add_argument(
        "--layout", choices=("same", "mono", "stereo"), default="same", help="channels of the file (same)"
    )
    command.add_argument(
        "--bitrate", type=int, default=None, metavar="KBIT", help="of MP3, Opus and AAC in kbit/s (192)"
    )
    command.add_argument("--overwrite", action="store_true", help="replace existing outputs")


def add_keep_flag(command: argparse.ArgumentParser) -> None:
    """Declare the flag that trims."""
    command.add_argument(
        "--keep", type=seconds, nargs=2, metavar=("FROM", "TO"), help="trim to a section, in seconds of the input"
    )


def deliverable_of(options: argparse.Namespace, path: Path) -> Deliverable:
    """The deliverable that flags and the file's ending ask for.

    Raises
    ------
    DeliveryError
        For endings that cannot be written and values out of range.
    """
    kind: Kind = kind_of_path(path)
    if kind == "flac" and options.bits == "float":
        message = "FLAC cannot hold floats. Choose 16 or 24 bits, or WAV."
        raise DeliveryError(message)
    usual = 256 if kind == "picture" else min(192, BITRATES.get(kind, (0, 192))[1])
    edges: dict[str, float] = {
        name: getattr(options, name, 0.0) for name in ("head_s", "tail_s", "fade_in_s", "fade_out_s")
    }
    if getattr(options, "pop", None):
        edges |= {"pop_s": float(1 / rate_named(options.pop)[0]), "head_s": max(edges["head_s"], BEFORE_S)}
    return Deliverable(
        kind=kind, sample_format=FORMATS[options.bits], dither=DITHERS[options.dither], rate_hz=options.rate,
        layout=options.layout, bitrate_kbps=options.bitrate or usual, by_reel=getattr(options, "reels", False),
        head_s=edges["head_s"], tail_s=edges["tail_s"], fade_in_s=edges["fade_in_s"], fade_out_s=edges["fade_out_s"],
        pop_s=edges.get("pop_s", 0.0),
    )  # fmt: skip


def check_project_output(path: Path, *, overwrite: bool, inputs: Sequence[Path] = ()) -> Path:
    """The path of a project to be written, with its suffix.

    Raises
    ------
    DeliveryError
        When it exists, is one of the inputs, or its folder is not there.
    """
    target = path if path.suffix.lower() == SUFFIX else path.with_name(path.name + SUFFIX)
    check_output(target, inputs=list(inputs), overwrite=overwrite)
    return target


def output_paths(files: list[Path], output: Path, ending: str | None) -> list[Path]:
    """One output per input: the named file for one, files of the same names in a folder for several."""
    check_name(output)
    if len(files) == 1 and not output.is_dir():
        suffix = f".{ending}" if ending and not output.suffix else ""
        return [output.with_name(output.name + suffix)]
    if output.parent.is_dir() and not output.exists():
        output.mkdir()
    stems = [path.stem for path in files]
    names = [f"{stem}-{n}" if stems.count(stem) > 1 else stem for n, stem in enumerate(stems, 1)]
    return [output / f"{name}.{ending or 'wav'}" for name in names]

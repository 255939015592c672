# SPDX-License-Identifier: GPL-3.0-or-later
"""Open any sound or picture file as a Source that is read in place."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable
from dataclasses import dataclass, fields
from pathlib import Path

from pulizia.audio.layouts import are_loudspeakers, channel_names, names_of_mask
from pulizia.audio.markers import Marker
from pulizia.audio.source import content_key
from pulizia.errors import MediaError
from pulizia.media.broadcast import Broadcast
from pulizia.media.coded import NAMES, decode_into
from pulizia.media.folders import cache_folder
from pulizia.media.identity import quick_digest, state_of
from pulizia.media.pcm import PcmSource, can_map
from pulizia.media.tags import Cover, Tags, read_tags
from pulizia.media.wav_chunks import WavLayout, is_wav, read_layout
from pulizia.media.write import shortened
from pulizia.words import tr

LOWEST_RATE, HIGHEST_RATE = 4_000, 768_000
MOST_CHANNELS = 64
LONGEST_NUMBER = 20  # digits
TAG_WORDS = ("title", "artist", "album", "date", "track", "genre", "language", "copyright", "comment")
PROJECT_SUFFIX = ".pulizia"
DECODER = 2  # raised when files are decoded in another way than before


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenMedia:
    """An opened file: its sound, and what is known of it."""

    path: Path
    source: PcmSource
    fingerprint: str
    coding: str
    channel_names: tuple[str, ...]
    metadata: dict[str, str]
    warning: str = ""
    markers: tuple[Marker, ...] = ()
    cover: Cover | None = None

    @property
    def format_line(self) -> str:
        """Rate, coding and layout in one short line."""
        rate = f"{self.source.rate / 1000:g} kHz"
        usual = {1: "mono", 2: "stereo"} if are_loudspeakers(self.channel_names) else {1: "mono"}
        layout = usual.get(self.source.channels, tr("{channels} channels", channels=self.source.channels))
        return f"{rate}, {self.coding}, {layout}"


def fingerprint_of(path: Path) -> str:
    """A quick digest of a file, by which a recording is known: the same for an untouched file.

    Raises
    ------
    MediaError
        When the file cannot be read.
    """
    try:
        return quick_digest(path)
    except OSError as error:
        raise MediaError(_cannot_read(path, error)) from error


def open_media(path: Path, progress: Callable[[float], None] = lambda _: None) -> OpenMedia:
    """Open a sound or picture file. ``progress`` (0..1) is called while decoding, may raise to stop.

    Raises
    ------
    MediaError
        One sentence: missing, unreadable, empty, damaged, or no sound in it.
    """
    path = Path(path)
    _look_at(path)
    if path.suffix.lower() == PROJECT_SUFFIX:
        message = tr("{name} is a project, not a recording. Choose one of the files that it holds.", name=path.name)
        raise MediaError(message)
    fingerprint = fingerprint_of(path)
    try:
        if is_wav(path):
            layout = read_layout(path)
            if can_map(layout):
                source = PcmSource(path, _checked(layout, path), f"{fingerprint} {state_of(path)}")
                floats = "float" if layout.tag == 3 else "bit"
                names = layout.channel_names or names_of_mask(layout.mask, layout.channels)
                return OpenMedia(
                    path=path, source=source, fingerprint=fingerprint,
                    coding=f"{layout.bits}-{floats}", metadata=dict(layout.metadata), warning=_warning(path, layout),
                    markers=layout.cues, channel_names=channel_names(layout.channels, names),
                )  # fmt: skip
        return _open_decoded(path, fingerprint, progress)
    except OSError as error:
        raise MediaError(_cannot_read(path, error)) from error


def _warning(path: Path, layout: WavLayout) -> str:
    if layout.unfinished:
        seconds = layout.frames / layout.rate
        return tr(
            "{name} was never finished by its recorder: the {seconds:.1f} s that are there were opened.",
            name=path.name,
            seconds=seconds,
        )
    return tr("{name} is cut short; what is there was opened.", name=path.name) if layout.truncated else ""


def _open_decoded(path: Path, fingerprint: str, progress: Callable[[float], None]) -> OpenMedia:
    folder = cache_folder("decoded")
    identity = content_key(fingerprint, state_of(path), DECODER)
    target, notes = folder / f"{identity}.wav", folder / f"{identity}.txt"
    metadata: dict[str, str] = {}
    if target.exists() and notes.exists():
        os.utime(target)  # used now: the last to be pruned
        lines = notes.read_text(encoding="utf-8").splitlines()
        metadata = dict(line.split("=", 1) for line in lines if "=" in line)
    else:
        metadata = decode_into(path, target, progress)
        lines = [f"{k}={v.splitlines()[0] if v else ''}" for k, v in metadata.items()]
        notes.write_text("\n".join(lines), encoding="utf-8")
    layout = _checked(read_layout(target), path)
    coding, names = metadata.pop("coding", path.suffix.lstrip(".")), metadata.pop(NAMES, "").split()
    tags = Tags() if metadata.get("picture") else read_tags(path)
    return OpenMedia(
        path=path, source=PcmSource(target, layout, identity, own=True), fingerprint=fingerprint, cover=tags.cover,
        coding=coding, metadata=metadata | dict(tags.texts), channel_names=channel_names(layout.channels, names),
    )  # fmt: skip


def _look_at(path: Path) -> None:
    try:
        found = path.stat()
    except (FileNotFoundError, NotADirectoryError) as error:
        message = tr(
            "{shortened} does not exist. Check the name, or choose another file.", shortened=shortened(str(path))
        )
        raise MediaError(message) from error
    except (OSError, ValueError) as error:  # a name that no disk can hold
        message = tr(
            "{shortened!r} cannot be the name of a file here. Choose another file.", shortened=shortened(path.name)
        )
        if isinstance(error, PermissionError):
            message = _cannot_read(path, error)
        raise MediaError(message) from error
    if stat.S_ISDIR(found.st_mode):
        message = tr("{path} is a folder. Choose a sound file in it.", path=path)
        raise MediaError(message)
    if not stat.S_ISREG(found.st_mode):
        message = tr("{name} is not an ordinary file. Choose a sound file.", name=path.name)
        raise MediaError(message)
    if found.st_size == 0:
        message = tr("{name} is empty (0 bytes). Use another copy.", name=path.name)
        raise MediaError(message)


def _checked(layout: WavLayout, path: Path) -> WavLayout:
    if layout.frames == 0:
        message = tr("{name} holds no sound: it is 0 seconds long. Use another copy.", name=path.name)
        raise MediaError(message)
    if not LOWEST_RATE <= layout.rate <= HIGHEST_RATE:
        message = tr(
            "{name} declares a sample rate of {rate} Hz, which is not usable.", name=path.name, rate=layout.rate
        )
        raise MediaError(message)
    if layout.channels > MOST_CHANNELS:
        message = tr(
            "{name} declares {channels} channels; at most {most_channels} are read.",
            name=path.name,
            channels=layout.channels,
            most_channels=MOST_CHANNELS,
        )
        raise MediaError(message)
    return layout


def _cannot_read(path: Path, error: OSError) -> str:
    if isinstance(error, PermissionError):
        return tr("{name} may not be read. Change its permissions or copy it elsewhere.", name=path.name)
    return tr("{name} cannot be read ({value}).", name=path.name, value=error.strerror or error)


def broadcast_of(media: OpenMedia) -> Broadcast:
    """What a file's recorder said of it, as it travels into delivered files."""
    metadata = media.metadata
    since = metadata.get("frames_since_midnight", "")
    kept = {f.name: metadata[f.name] for f in fields(Broadcast) if isinstance(f.default, str) and f.name in metadata}
    if not re.fullmatch(r"\d{4}\D\d\d\D\d\d", kept.get("date", "")):
        kept.pop("date", None)  # a year alone is a tag's, not a recorder's
    return Broadcast(**({"description": metadata.get("title", media.path.stem), "originator": "Pulizia"} | kept),
        frames_since_midnight=int(since) if since.isdigit() and len(since) < LONGEST_NUMBER else 0,
        channel_names=media.channel_names,
    )  # fmt: skip


def tags_of(media: OpenMedia, title: str = "") -> Tags:
    """Title, artist and the like of a file, with its cover; ``title`` where it has none itself."""
    return Tags({word: media.metadata[word] for word in TAG_WORDS if media.metadata.get(word)}, media.cover).with_title(
        title or media.path.stem
    )


def picture_of(media: OpenMedia) -> Path | None:
    """The picture file that the sound was taken from, if it was."""
    return media.path if media.metadata.get("picture") else None

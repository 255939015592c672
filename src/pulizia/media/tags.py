# SPDX-License-Identifier: GPL-3.0-or-later
"""Title, artist, cover and the like: read from and written into FLAC, MP3, Ogg, Opus and M4A (mutagen), and WAV's LIST INFO.

The only importer of mutagen.
"""

# mypy: disable-error-code="no-untyped-call"
from __future__ import annotations

import base64
import contextlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pulizia.media.cues import chunk, chunks_of, decoded

LARGEST_COVER = 16 << 20
LONGEST_TEXT = 4000

INFO = {
    "INAM": "title", "IART": "artist", "IPRD": "album", "ICRD": "date", "ITRK": "track", "IGNR": "genre",
    "ILNG": "language", "ICOP": "copyright", "ICMT": "comment",
}  # fmt: skip
"""Entries of LIST INFO (RIFF, 1994; ITRK is common practice)."""
ID3 = {
    "TIT2": "title", "TPE1": "artist", "TALB": "album", "TDRC": "date", "TRCK": "track", "TCON": "genre",
    "TLAN": "language", "TCOP": "copyright",
}  # fmt: skip
"""Frames of ID3v2.4."""
VORBIS = {
    "title": "title", "artist": "artist", "album": "album", "date": "date", "tracknumber": "track", "genre": "genre",
    "language": "language", "copyright": "copyright", "description": "comment", "comment": "comment", "timecode": "timecode",
}  # fmt: skip
"""Vorbis comments, of Ogg, Opus and FLAC."""
MP4 = {
    "\xa9nam": "title", "\xa9ART": "artist", "\xa9alb": "album", "\xa9day": "date", "\xa9gen": "genre",
    "\xa9cmt": "comment", "cprt": "copyright", "----:com.apple.iTunes:LANGUAGE": "language",
}  # fmt: skip
"""Atoms of the metadata list of MPEG-4 files."""


@dataclass(frozen=True, slots=True)
class Cover:
    """A picture of the programme."""

    data: bytes = field(repr=False)
    mime: str = "image/jpeg"


@dataclass(frozen=True, slots=True)
class Tags:
    """What a file says of its programme, by plain names: title, artist, album, date, track, genre, language, copyright, comment."""

    texts: Mapping[str, str] = field(default_factory=dict)
    cover: Cover | None = None

    def with_title(self, title: str) -> Tags:
        """The same; with this title where there is none."""
        return Tags({"title": title} | dict(self.texts), self.cover)

    def with_part(self, name: str) -> Tags:
        """The same, of a part with a name of its own."""
        return Tags(dict(self.texts) | {"title": name}, self.cover)


NO_TAGS = Tags()


def read_tags(path: Path) -> Tags:
    """Tags of a coded file; none where it has none or they are damaged."""
    import mutagen

    try:
        file = mutagen.File(path)
    except Exception:  # noqa: BLE001 - damaged tags are of many kinds, and none of them may keep the sound away
        return Tags()
    if file is None or file.tags is None:
        return Tags()
    kind = type(file).__name__
    with contextlib.suppress(Exception):
        if kind in ("MP3", "AIFF", "WAVE", "ID3FileType", "TrueAudio"):
            return _from_id3(file.tags)
        if kind in ("MP4", "M4A"):
            return _from_mp4(file.tags)
        return _from_vorbis(file)
    return Tags()


def write_tags(path: Path, kind: str, tags: Tags) -> None:
    """Write tags into a finished FLAC, MP3, Opus or M4A file; raises OSError."""
    if not tags.texts and tags.cover is None:
        return
    import mutagen

    try:
        {"flac": _into_flac, "mp3": _into_mp3, "opus": _into_opus, "m4a": _into_mp4}[kind](path, tags)
    except mutagen.MutagenError as error:
        cause = error.args[0] if error.args and isinstance(error.args[0], OSError) else None
        raise cause or OSError(5, str(error)) from error


def flac_mask(path: Path) -> int | None:
    """The mask of loudspeakers that a FLAC file's comments give, where they give one."""
    import mutagen
    from mutagen.flac import FLAC

    try:
        found = FLAC(path).get("WAVEFORMATEXTENSIBLE_CHANNEL_MASK")
        return int(found[0], 16) if found else None
    except (mutagen.MutagenError, OSError, ValueError):
        return None


def parse_info(lists: list[bytes]) -> dict[str, str]:
    """Texts of a WAV file's LIST INFO."""
    found: dict[str, str] = {}
    for body in lists:
        if body[:4] == b"INFO":
            for name, content in chunks_of(body[4:]):
                word = INFO.get(name.decode("latin-1"))
                if word and (text := decoded(content)):
                    found.setdefault(word, text[:LONGEST_TEXT])
    return found


def info_chunk(texts: Mapping[str, str]) -> bytes:
    """LIST INFO with the texts that it has names for; b"" for none."""
    entries = b"".join(
        chunk(name.encode(), texts[word].encode("utf-8") + b"\0") for name, word in INFO.items() if texts.get(word)
    )
    return chunk(b"LIST", b"INFO" + entries) if entries else b""


def _clean(values: Mapping[str, Any]) -> dict[str, str]:
    return {
        name: text[:LONGEST_TEXT] for name, value in values.items() if (text := str(value).replace("\0", " ").strip())
    }


def _from_id3(tags: Any) -> Tags:  # noqa: ANN401 - mutagen
    texts = _clean({word: "/".join(map(str, tags[name].text)) for name, word in ID3.items() if name in tags})
    comments = tags.getall("COMM")
    if comments and "comment" not in texts:
        texts |= _clean({"comment": "\n".join(comments[0].text)})
    pictures = tags.getall("APIC")
    return Tags(texts, _cover(pictures[0].data, pictures[0].mime) if pictures else None)


def _from_vorbis(file: Any) -> Tags:  # noqa: ANN401
    from mutagen.flac import Picture

    texts: dict[str, str] = {}
    for name, word in VORBIS.items():
        if file.tags.get(name):
            texts.setdefault(word, "/".join(file.tags[name]))
    pictures = list(getattr(file, "pictures", []))
    pictures += [Picture(base64.b64decode(block)) for block in file.tags.get("metadata_block_picture", [])]
    return Tags(_clean(texts), _cover(pictures[0].data, pictures[0].mime) if pictures else None)


def _from_mp4(tags: Any) -> Tags:  # noqa: ANN401
    texts: dict[str, str] = {}
    for name, word in MP4.items():
        if tags.get(name):
            value = tags[name][0]
            texts[word] = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
    if tags.get("trkn"):
        number, of = tags["trkn"][0]
        texts["track"] = f"{number}/{of}" if of else str(number)
    covers = tags.get("covr") or []
    png = bool(covers) and bytes(covers[0][:4]) == b"\x89PNG"
    return Tags(_clean(texts), _cover(bytes(covers[0]), "image/png" if png else "image/jpeg") if covers else None)


def _cover(data: bytes, mime: str) -> Cover | None:
    return Cover(data, mime or "image/jpeg") if 0 < len(data) <= LARGEST_COVER else None


def _into_mp3(path: Path, tags: Tags) -> None:
    from mutagen import id3

    made = id3.ID3()
    for name, word in ID3.items():
        if text := tags.texts.get(word):
            made.add(getattr(id3, name)(encoding=3, text=[text]))
    if text := tags.texts.get("comment"):
        made.add(id3.COMM(encoding=3, lang="und", desc="", text=[text]))
    if tags.cover is not None:
        made.add(id3.APIC(encoding=3, mime=tags.cover.mime, type=3, desc="", data=tags.cover.data))
    made.save(path)


def _vorbis_names() -> dict[str, str]:
    return {word: name for name, word in VORBIS.items() if name != "comment"}


def _picture_block(cover: Cover) -> Any:  # noqa: ANN401 - mutagen.flac.Picture
    from mutagen.flac import Picture

    picture = Picture()
    picture.type, picture.mime, picture.data = 3, cover.mime, cover.data
    return picture


def _into_flac(path: Path, tags: Tags) -> None:
    from mutagen.flac import FLAC

    file = FLAC(path)
    for word, name in _vorbis_names().items():
        if text := tags.texts.get(word):
            file[name] = text
    if mask := tags.texts.get("channel_mask"):
        file["WAVEFORMATEXTENSIBLE_CHANNEL_MASK"] = mask
    if tags.cover is not None:
        file.add_picture(_picture_block(tags.cover))
    file.save()


def _into_opus(path: Path, tags: Tags) -> None:
    from mutagen.oggopus import OggOpus

    file = OggOpus(path)
    for word, name in _vorbis_names().items():
        if text := tags.texts.get(word):
            file[name] = text
    if tags.cover is not None:
        file["metadata_block_picture"] = base64.b64encode(_picture_block(tags.cover).write()).decode("ascii")
    file.save()


def _into_mp4(path: Path, tags: Tags) -> None:
    from mutagen.mp4 import MP4 as Mp4File  # noqa: N811
    from mutagen.mp4 import MP4Cover, MP4FreeForm

    file = Mp4File(path)
    if file.tags is None:
        file.add_tags()
    for name, word in MP4.items():
        if text := tags.texts.get(word):
            file[name] = [MP4FreeForm(text.encode("utf-8"))] if name.startswith("----") else [text]
    number, _, of = tags.texts.get("track", "").partition("/")
    if number.isdigit() and int(number) < 1 << 16:
        file["trkn"] = [(int(number), int(of) if of.isdigit() and int(of) < 1 << 16 else 0)]
    if tags.cover is not None:
        form = MP4Cover.FORMAT_PNG if tags.cover.mime == "image/png" else MP4Cover.FORMAT_JPEG
        file["covr"] = [MP4Cover(tags.cover.data, imageformat=form)]
    file.save()

# SPDX-License-Identifier: GPL-3.0-or-later
"""What recorders, tags and covers say travels through a delivery; read back by programs that are not ours.

WAV files by the package wavinfo, everything else by FFmpeg's prober.
"""

from __future__ import annotations

import json
import os
import shutil
import struct
import subprocess
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise
from wavinfo import WavInfoReader

from pulizia.audio.markers import Marker
from pulizia.audio.samples import Samples
from pulizia.audio.source import ArraySource
from pulizia.delivery.deliver import write_source
from pulizia.delivery.deliverable import KIND_OF_SUFFIX, Deliverable
from pulizia.media.broadcast import Broadcast, Loudness, bext_chunk
from pulizia.media.cues import chunk
from pulizia.media.open import open_media
from pulizia.media.tags import Cover, Tags, write_tags
from pulizia.media.write import WavWriter

RATE = 48_000
IXML = """<?xml version="1.0" encoding="UTF-8"?><BWFXML><IXML_VERSION>1.5</IXML_VERSION><PROJECT>Museum</PROJECT><SCENE>12A</SCENE>
<TAKE>3</TAKE><TAPE>R7</TAPE><CIRCLED>TRUE</CIRCLED><UBITS>12345678</UBITS><FILE_UID>ABC-1</FILE_UID><NOTE>windy</NOTE>
<SPEED><TIMECODE_RATE>30000/1001</TIMECODE_RATE><TIMECODE_FLAG>DF</TIMECODE_FLAG></SPEED>
<TRACK_LIST><TRACK_COUNT>2</TRACK_COUNT><TRACK><NAME>Boom</NAME></TRACK><TRACK><NAME>Lav</NAME></TRACK></TRACK_LIST></BWFXML>"""
TEXTS = {
    "title": "Episode 1", "artist": "Ada Grün", "album": "Clocks", "date": "2024-05-06", "track": "3", "genre": "Talk", "language": "deu",
    "copyright": "free",
}  # fmt: skip


def needs_ffmpeg() -> None:
    if shutil.which("ffprobe") is None:
        if os.environ.get("CI"):
            pytest.fail("FFmpeg must be installed on a build machine")
        pytest.skip("FFmpeg's commands are not installed")


def png() -> bytes:
    """A picture of one red point."""
    import zlib

    def part(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", 8, 8, 8, 2, 0, 0, 0)
    rows = b"".join(b"\0" + b"\xff\0\0" * 8 for _ in range(8))
    return b"\x89PNG\r\n\x1a\n" + part(b"IHDR", head) + part(b"IDAT", zlib.compress(rows)) + part(b"IEND", b"")


@pytest.fixture
def take(tmp_path: Path) -> Path:
    """A field recording of two tracks with everything a recorder and a logger write."""
    path = tmp_path / "take.wav"
    said = Broadcast(
        description="Interview", originator="Recorder", reference="DEAAA1234567890", date="2024-05-06", time="10:00:00",
        frames_since_midnight=36_000 * RATE, history="A=ANALOGUE,M=stereo,T=Mixer",
    )  # fmt: skip
    ixml = IXML.encode() + b" " * (len(IXML.encode()) & 1)
    chunks = bext_chunk(said) + struct.pack("<4sI", b"iXML", len(ixml)) + ixml
    chunks += chunk(b"LIST", b"INFO" + chunk(b"INAM", b"Slate 12A\0") + chunk(b"IART", "Grün".encode() + b"\0"))
    markers = [Marker(4800, "Start"), Marker(24_000, "Line 7", 12_000, "say again, softer")]
    with WavWriter(path, rate=RATE, channels=2, sample_format="int24", markers=markers, chunks=chunks) as writer:
        writer.write(voice_in_noise(4.0, channels=2))
    return path


def deliver(capsys, source: Path, target: Path, *words: object) -> str:
    code, out, err = run(capsys, "deliver", source, "--target", "ebu-r128", "-o", target, *words)
    assert (code, err) == (0, "")
    return out


def probed(path: Path) -> dict:
    needs_ffmpeg()
    words = ["ffprobe", "-v", "error", "-show_streams", "-show_format", "-of", "json", str(path)]
    return json.loads(subprocess.run(words, check=True, capture_output=True, text=True).stdout)


def test_what_a_recorder_wrote_is_in_the_delivered_wav(capsys, take: Path, tmp_path: Path) -> None:
    deliver(capsys, take, tmp_path / "out.wav")
    found = WavInfoReader(str(tmp_path / "out.wav"), info_encoding="utf-8")
    assert found.bext.originator == "Recorder"
    assert found.bext.originator_ref == "DEAAA1234567890"
    assert (found.bext.originator_date, found.bext.originator_time) == ("2024-05-06", "10:00:00")
    assert found.bext.time_reference == 36_000 * RATE
    history = found.bext.coding_history.splitlines()
    assert history[0] == "A=ANALOGUE,M=stereo,T=Mixer"
    assert history[1].startswith("A=PCM,F=48000,W=24,M=stereo,T=Pulizia")
    assert not any(found.bext.umid or b"")  # what was made is other material: no identity is better than a made-up one
    assert found.bext.loudness_value == pytest.approx(-23.0, abs=0.06)
    text = (tmp_path / "out.wav").read_bytes()
    for part in (
        b"30000/1001",
        b"<TIMECODE_FLAG>DF",
        b"<CIRCLED>TRUE",
        b"<UBITS>12345678",
        b"<FILE_UID>ABC-1",
        b"<NAME>Boom",
        b"<NOTE>windy",
    ):
        assert part in text, part
    assert (found.info.title, found.info.artist) == ("Slate 12A", "Grün")
    cues = {cue.name: cue for cue in found.cues.cues}
    labels = [found.cues.label_and_note(name) for name in cues]
    assert labels == [("Start", None), ("Line 7", "say again, softer")]
    assert [found.cues.range(name) for name in cues] == [None, 12_000]


def test_it_travels_through_our_own_model_and_back(take: Path) -> None:
    media = open_media(take)
    assert media.markers == (Marker(4800, "Start"), Marker(24_000, "Line 7", 12_000, "say again, softer"))
    assert media.channel_names == ("Boom", "Lav")
    assert media.metadata["title"] == "Slate 12A"
    assert media.metadata["timecode_flag"] == "DF"


def test_a_recording_of_two_seconds_has_no_loudness_range(capsys, take: Path, tmp_path: Path) -> None:
    deliver(capsys, take, tmp_path / "short.wav", "--keep", 1.0, 3.5)
    found = WavInfoReader(str(tmp_path / "short.wav")).bext
    raw = (tmp_path / "short.wav").read_bytes()
    at = raw.index(b"bext") + 8 + 412
    assert struct.unpack("<h", raw[at + 2 : at + 4])[0] == 0x7FFF
    assert found.time_reference == 36_001 * RATE
    assert Loudness().range_lu is None


@pytest.mark.parametrize("kind", ["flac", "mp3", "opus", "m4a", "wav"])
def test_titles_and_covers_survive_every_kind(capsys, tmp_path: Path, kind: str) -> None:
    needs_ffmpeg()
    first = tmp_path / "in.flac"
    soundfile.write(first, voice_in_noise(3.0).T, RATE)
    write_tags(first, "flac", Tags(TEXTS, Cover(png(), "image/png")))
    middle, last = tmp_path / f"middle.{kind}", tmp_path / "last.mp3"
    deliver(capsys, first, middle)
    deliver(capsys, middle, last)  # and once more, out of that kind
    for path in (middle, last):
        found = probed(path)
        streams = found["streams"][0].get("tags", {}) if path.suffix == ".opus" else {}
        tags = {k.lower(): v for k, v in (found["format"].get("tags", {}) | streams).items()}
        for name in ("title", "artist", "album", "genre", "date", "copyright"):
            assert tags[name] == TEXTS[name], (path.name, name)
        assert tags["track"] == "3"
        if path.suffix != ".m4a":
            assert tags.get("language", "deu") == "deu"
    pictures = [s for s in probed(middle)["streams"] if s.get("disposition", {}).get("attached_pic")]
    assert len(pictures) == (0 if kind == "wav" else 1)
    if kind != "wav":
        assert open_media(last).cover.data == png()


@pytest.mark.parametrize("kind", ["flac", "mp3", "opus", "m4a"])
def test_a_cover_travels_without_any_title(tmp_path: Path, kind: str, voice: Samples) -> None:
    path = tmp_path / f"x.{kind}"
    write_source(
        ArraySource(voice[:, :RATE], RATE),
        path,
        Deliverable(kind=KIND_OF_SUFFIX[path.suffix]),
        lambda _: None,
    )
    write_tags(path, kind, Tags(cover=Cover(png(), "image/png")))
    assert open_media(path).cover.data == png()


def test_a_title_is_the_file_name_only_where_there_is_none(capsys, voice_file: Path, tmp_path: Path) -> None:
    deliver(capsys, voice_file, tmp_path / "out.flac")
    assert open_media(tmp_path / "out.flac").metadata["title"] == "take"


@pytest.mark.parametrize(
    ("kind", "channels"), [("ogg", 3), ("ogg", 5), ("ogg", 6), ("ogg", 8), ("opus", 6), ("opus", 8)]
)  # FFmpeg's own Opus of other layouts is out of order
def test_surround_in_ogg_is_read_in_the_order_of_its_loudspeakers(tmp_path: Path, kind: str, channels: int) -> None:
    """FFmpeg encodes a tone of another level in each loudspeaker, by its layout; ours must find each under its name."""
    needs_ffmpeg()
    layouts = {
        3: ("3.0", "L R C"),
        5: ("5.0", "L R C Ls Rs"),
        6: ("5.1", "L R C LFE Ls Rs"),
        8: ("7.1", "L R C LFE Lb Rb Ls Rs"),
    }
    layout, names = layouts[channels]
    t = np.arange(2 * RATE) / RATE
    levels = 0.5 * 0.6 ** np.arange(channels)
    sound = np.stack([level * np.sin(2 * np.pi * 60 * t) for level in levels]).astype(np.float32)
    soundfile.write(tmp_path / "a.wav", sound.T, RATE, subtype="FLOAT")
    codec = {"ogg": "libvorbis", "opus": "libopus"}[kind]
    subprocess.run(
        ["ffmpeg", "-v", "error", "-channel_layout", layout, "-i", "a.wav", "-c:a", codec, "-b:a", "512k", f"a.{kind}"],
        cwd=tmp_path, check=True,
    )  # fmt: skip
    media = open_media(tmp_path / f"a.{kind}")
    assert media.channel_names == tuple(names.split())
    got = np.sqrt(2 * np.mean(media.source.read(RATE // 2, RATE) ** 2, axis=1))
    assert got == pytest.approx(levels, rel=0.3)


MASKS = {0xB: "L R LFE", 0xF: "L R C LFE", 0x107: "L R C Cs", 0x33: "L R Ls Rs", 0x3F: "L R C LFE Ls Rs", 0x60F: "L R C LFE Ls Rs", 0x63F: "L R C LFE Lb Rb Ls Rs"}  # fmt: skip


@pytest.mark.parametrize("mask", MASKS)
def test_masks_are_obeyed_and_written(capsys, tmp_path: Path, mask: int) -> None:
    names = MASKS[mask].split()
    path = tmp_path / "a.wav"
    rng = np.random.default_rng(3)
    with WavWriter(path, rate=RATE, channels=len(names), sample_format="int24") as writer:
        writer.write((0.1 * rng.standard_normal((len(names), 2 * RATE))).astype(np.float32))
    raw = bytearray(path.read_bytes())
    at = raw.index(b"fmt ") + 8 + 20
    raw[at : at + 4] = struct.pack("<I", mask)
    path.write_bytes(raw)
    assert open_media(path).channel_names == tuple(names)
    deliver(capsys, path, tmp_path / "b.wav")
    again = (tmp_path / "b.wav").read_bytes()
    at = again.index(b"fmt ") + 8 + 20
    written = struct.unpack("<I", again[at : at + 4])[0]
    assert written == (0x3F if mask == 0x60F else mask)  # the same loudspeakers
    # the loudness counts each loudspeaker by its place: FFmpeg's meter agrees where it knows the layout
    if mask in (0xB, 0xF, 0x3F):
        needs_ffmpeg()
        words = ["ffmpeg", "-nostats", "-i", str(path), "-af", "ebur128", "-f", "null", "-"]
        said = subprocess.run(words, check=True, capture_output=True, text=True).stderr
        theirs = float(said.split("I:")[-1].split("LUFS")[0])
        code, out, _ = run(capsys, "measure", path, "--json")
        assert code == 0
        assert json.loads(out)["integrated_lufs"] == pytest.approx(theirs, abs=0.1)


def test_the_tracks_of_a_recorder_are_no_loudspeakers(capsys, tmp_path: Path) -> None:
    path = tmp_path / "poly.wav"
    soundfile.write(path, voice_in_noise(2.0, channels=8).T, RATE, subtype="PCM_24", format="WAV")
    raw = path.read_bytes()
    assert open_media(path).channel_names == tuple("12345678") or b"\xfe\xff" in raw[:64]
    for ending in ("wav", "flac"):
        deliver(capsys, path, tmp_path / f"b.{ending}")
        assert open_media(tmp_path / f"b.{ending}").channel_names == tuple("12345678")
    again = (tmp_path / "b.wav").read_bytes()
    at = again.index(b"fmt ") + 8 + 20
    assert struct.unpack("<I", again[at : at + 4])[0] == 0


@pytest.mark.parametrize("kind", ["size 0", "too small", "RF64 unfinished"])
def test_recordings_that_lost_power_open_as_far_as_there_is_sound(
    capsys, tmp_path: Path, wav: Callable[..., Path], kind: str
) -> None:
    sound = voice_in_noise(3.0, channels=2)
    raw = bytearray(wav(sound, "good.wav").read_bytes())
    at = raw.index(b"data") + 4
    size = struct.unpack("<I", raw[at : at + 4])[0]
    if kind == "RF64 unfinished":
        raw = bytearray(b"RF64\xff\xff\xff\xffWAVEds64" + struct.pack("<IQQQI", 28, 0, 0, 0, 0) + bytes(raw[12:]))
        at = raw.index(b"data") + 4
        raw[at : at + 4] = b"\xff\xff\xff\xff"
    else:
        raw[at : at + 4] = struct.pack("<I", 0 if kind == "size 0" else size // 3 & ~1)
        raw[4:8] = bytes(4)
    path = tmp_path / "lost.wav"
    path.write_bytes(raw)
    media = open_media(path)
    assert media.source.frames == sound.shape[1]
    assert np.abs(media.source.read(0, media.source.frames) - sound).max() < 1e-6
    assert "was never finished by its recorder: the 3.0 s" in media.warning
    assert "never finished" in deliver(capsys, path, tmp_path / "out.wav")


def test_chunks_and_padding_behind_the_sound_are_not_sound(tmp_path: Path, wav: Callable[..., Path]) -> None:
    good = wav(voice_in_noise(1.0), "good.wav").read_bytes()
    for tail in (
        chunk(b"LIST", b"INFO" + bytes(30_000)),
        bytes(40_000),
        b"xy",
        b"LIST" + struct.pack("<I", 90_000) + bytes(20_000),
    ):
        (tmp_path / "t.wav").write_bytes(good + tail)
        media = open_media(tmp_path / "t.wav")
        assert media.source.frames == RATE
        assert not media.warning

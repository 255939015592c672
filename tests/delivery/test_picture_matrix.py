# SPDX-License-Identifier: GPL-3.0-or-later
"""Video files as cameras and editors write them (made with FFmpeg), back with new sound: every stream is identical or named."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest
from tests.cli.test_commands import run

from pulizia.media.fast_start import index_is_first

PICTURE = ["-f", "lavfi", "-i", "testsrc=size=96x64:rate=25:duration=2"]
NTSC = ["-f", "lavfi", "-i", "testsrc=size=96x64:rate=30000/1001:duration=2"]
SOUND = ["-f", "lavfi", "-i", "sine=300:sample_rate=48000:duration=2"]
H264 = ["-c:v", "libx264", "-pix_fmt", "yuv420p", "-preset", "ultrafast", "-bf", "2", "-g", "25", "-c:a", "aac"]
CHAPTERS = ";FFMETADATA1\ntitle=Two parts\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=0\nEND=900\ntitle=One\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=900\nEND=2000\ntitle=Two\n"  # fmt: skip


def ffmpeg(folder: Path, *words: str) -> None:
    """Make a file in a folder."""
    subprocess.run(["ffmpeg", "-y", "-v", "error", *words], cwd=folder, check=True)


@pytest.fixture(scope="module")
def films(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder of files, each with one peculiarity."""
    if shutil.which("ffmpeg") is None:
        if os.environ.get("CI"):
            pytest.fail("FFmpeg must be installed on a build machine")
        pytest.skip("FFmpeg's command is not installed")
    folder = tmp_path_factory.mktemp("films")
    (folder / "chapters.txt").write_text(CHAPTERS)
    (folder / "words.srt").write_text("1\n00:00:00,500 --> 00:00:01,500\nHello\n")
    ffmpeg(folder, *PICTURE, *SOUND, *H264, "-metadata", "title=Plain", "plain.mp4")
    ffmpeg(folder, *["-f", "lavfi", "-i", "color=red:size=32x32", "-frames:v", "1", "cover.png"])
    copy = ["-c", "copy"]
    ffmpeg(folder, "-i", "plain.mp4", *copy, "-timecode", "10:00:00:00", "timecode.mp4")
    ffmpeg(folder, "-i", "plain.mp4", *copy, "-timecode", "01:02:03:04", "timecode.mov")
    ffmpeg(folder, *NTSC, *SOUND, *H264, "-timecode", "10:00:00;00", "drop.mp4")
    ffmpeg(
        folder,
        *["-i", "plain.mp4", "-i", "chapters.txt", "-map_metadata", "1", "-map_chapters", "1"],
        *copy,
        "chapters.mp4",
    )
    ffmpeg(folder, *["-i", "plain.mp4", "-i", "cover.png", "-map", "0", "-map", "1"], *copy, "-disposition:v:1", "attached_pic", "cover.mp4")  # fmt: skip
    ffmpeg(
        folder, *["-i", "plain.mp4", "-attach", "cover.png", "-metadata:s:t", "mimetype=image/png"], *copy, "cover.mkv"
    )
    ffmpeg(
        folder, *PICTURE, *SOUND, *["-f", "lavfi", "-i", "sine=500:duration=2", "-map", "0", "-map", "1", "-map", "2"], *H264,
        *["-metadata:s:a:0", "language=ger", "-metadata:s:a:1", "language=eng", "-disposition:a:0", "default", "-disposition:a:1", "0"],
        "two.mkv",
    )  # fmt: skip
    ffmpeg(
        folder, *["-i", "plain.mp4", "-i", "words.srt", "-map", "0", "-map", "1"], *copy, "-c:s", "subrip", "words.mkv"
    )
    ffmpeg(
        folder,
        *["-i", "plain.mp4", "-i", "words.srt", "-map", "0", "-map", "1"],
        *copy,
        "-c:s",
        "mov_text",
        "words.mp4",
    )
    ffmpeg(folder, *PICTURE, *SOUND, *["-c:v", "libx265", "-x265-params", "log-level=none", "-preset", "ultrafast", "-tag:v", "hvc1", "-c:a", "aac", "hevc.mp4"])  # fmt: skip
    ffmpeg(folder, *PICTURE, *SOUND, *["-c:v", "libvpx", "-b:v", "200k", "-c:a", "libopus", "old.webm"])
    ffmpeg(
        folder,
        *PICTURE,
        *SOUND,
        *["-c:v", "libvpx-vp9", "-b:v", "200k", "-deadline", "realtime", "-c:a", "libopus", "new.webm"],
    )
    ffmpeg(folder, "-i", "plain.mp4", *copy, "-movflags", "+faststart", "first.mov")
    ffmpeg(folder, "-i", "plain.mp4", *copy, "-movflags", "frag_keyframe+empty_moov", "pieces.mp4")
    ffmpeg(folder, "-ss", "0.52", "-i", "plain.mp4", *copy, "edited.mp4")
    return folder


def streams(path: Path) -> dict:
    """What FFmpeg's own prober says of a file."""
    words = ["ffprobe", "-v", "error", "-show_streams", "-show_chapters", "-show_format", "-of", "json", str(path)]
    return json.loads(subprocess.run(words, check=True, capture_output=True, text=True).stdout)


def packets(path: Path, which: str) -> list[str]:
    """Digests of a stream's packets, by FFmpeg."""
    words = ["ffmpeg", "-v", "error", "-i", str(path), "-map", which, "-c", "copy", "-f", "framemd5", "-"]
    lines = subprocess.run(words, check=True, capture_output=True, text=True).stdout.splitlines()
    return [line.split(",")[5].strip() for line in lines if line and not line.startswith("#")]


def delivered(capsys, films: Path, name: str, target: Path) -> str:
    code, out, err = run(capsys, "deliver", films / name, "--target", "ebu-r128", "-o", target)
    assert (code, err) == (0, "")
    assert packets(films / name, "0:v:0") == packets(target, "0:v:0")
    return out


def timecode(path: Path) -> str:
    found = [{k.lower(): v for k, v in s.get("tags", {}).items()} for s in streams(path)["streams"]]
    return next((tags["timecode"] for tags in found if "timecode" in tags), "")


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".mp4", ".mov", ".mkv"])
@pytest.mark.parametrize("name", ["timecode.mp4", "timecode.mov", "drop.mp4"])
def test_a_start_timecode_stays(capsys, films: Path, tmp_path: Path, name: str, suffix: str) -> None:
    delivered(capsys, films, name, tmp_path / f"out{suffix}")
    assert timecode(tmp_path / f"out{suffix}") == timecode(films / name) != ""


@pytest.mark.parametrize("suffix", [".mp4", ".mov", ".mkv"])
def test_chapters_stay(capsys, films: Path, tmp_path: Path, suffix: str) -> None:
    out = delivered(capsys, films, "chapters.mp4", tmp_path / f"out{suffix}")
    assert "left out" not in out
    found = streams(tmp_path / f"out{suffix}")["chapters"]
    assert [(c["tags"]["title"], float(c["start_time"])) for c in found] == [("One", 0.0), ("Two", 0.9)]


@pytest.mark.parametrize("name", ["cover.mp4", "cover.mkv"])
@pytest.mark.parametrize("suffix", [".mp4", ".mkv"])
def test_a_cover_stays_a_cover(capsys, films: Path, tmp_path: Path, name: str, suffix: str) -> None:
    delivered(capsys, films, name, tmp_path / f"out{suffix}")
    covers = [s for s in streams(tmp_path / f"out{suffix}")["streams"] if s["disposition"]["attached_pic"]]
    assert [s["codec_name"] for s in covers] == ["png"]
    moving = [s for s in streams(tmp_path / f"out{suffix}")["streams"] if s["codec_type"] == "video"]
    assert len(moving) == 2


@pytest.mark.slow
def test_what_the_new_container_cannot_hold_is_named(capsys, films: Path, tmp_path: Path) -> None:
    assert "The cover has no place in .mov and was left out." in delivered(
        capsys, films, "cover.mp4", tmp_path / "a.mov"
    )
    for target in ("a.mp4", "b.mov"):
        said = delivered(capsys, films, "words.mkv", tmp_path / target)
        assert "The subtitle track (srt) has no place" in said
        assert "Choose .mkv" in said
    assert "The subtitle track (mov_text) has no place" in delivered(capsys, films, "words.mp4", tmp_path / "c.mkv")
    for name, target in (("words.mkv", "d.mkv"), ("words.mp4", "d.mp4")):
        assert "left out" not in delivered(capsys, films, name, tmp_path / target)
        assert any(s["codec_type"] == "subtitle" for s in streams(tmp_path / target)["streams"])


@pytest.mark.parametrize("suffix", [".mp4", ".mov", ".mkv"])
def test_flags_and_languages_of_several_sound_tracks_stay(capsys, films: Path, tmp_path: Path, suffix: str) -> None:
    target = tmp_path / f"out{suffix}"
    delivered(capsys, films, "two.mkv", target)
    sounds = [s for s in streams(target)["streams"] if s["codec_type"] == "audio"]
    assert [(s["tags"]["language"], s["disposition"]["default"]) for s in sounds] == [("ger", 1), ("eng", 0)]
    assert packets(films / "two.mkv", "0:a:1") == packets(target, "0:a:1")


@pytest.mark.parametrize("suffix", [".mp4", ".mov"])
def test_the_kind_of_hevc_stays(capsys, films: Path, tmp_path: Path, suffix: str) -> None:
    delivered(capsys, films, "hevc.mp4", tmp_path / f"out{suffix}")
    assert streams(tmp_path / f"out{suffix}")["streams"][0]["codec_tag_string"] == "hvc1"


def test_web_films_go_where_they_can_and_else_are_one_sentence(capsys, films: Path, tmp_path: Path) -> None:
    delivered(capsys, films, "new.webm", tmp_path / "new.mp4")
    delivered(capsys, films, "old.webm", tmp_path / "old.mkv")
    for target in ("old.mp4", "old.mov"):
        code, out, err = run(capsys, "deliver", films / "old.webm", "--target", "ebu-r128", "-o", tmp_path / target)
        assert (code, out) == (1, "")
        assert err.count("\n") == 1
        assert "Choose .mkv" in err
        assert not (tmp_path / target).exists()


@pytest.mark.slow
def test_mp4_files_have_their_index_first_and_mov_files_where_it_was_so(capsys, films: Path, tmp_path: Path) -> None:
    assert not index_is_first(films / "plain.mp4")
    assert index_is_first(films / "first.mov")
    for name, target, first in (
        ("plain.mp4", "a.mp4", True),
        ("first.mov", "b.mov", True),
        ("timecode.mov", "c.mov", False),
    ):
        delivered(capsys, films, name, tmp_path / target)
        assert index_is_first(tmp_path / target) is first
    code, _, _ = run(capsys, "deliver", films / "plain.mp4", "--target", "ebu-r128", "-o", tmp_path / "sound.m4a")
    assert code == 0
    assert index_is_first(tmp_path / "sound.m4a")
    assert len(packets(tmp_path / "sound.m4a", "0:a:0")) > 90  # FFmpeg finds every packet at its new place


@pytest.mark.parametrize("name", ["pieces.mp4", "edited.mp4", "plain.mp4"])
@pytest.mark.parametrize("suffix", [".mp4", ".mov", ".mkv"])
def test_pieces_and_edit_lists_keep_every_packet_and_the_title(
    capsys, films: Path, tmp_path: Path, name: str, suffix: str
) -> None:
    target = tmp_path / f"out{suffix}"
    delivered(capsys, films, name, target)
    assert streams(target)["format"]["tags"]["title"] == "Plain"

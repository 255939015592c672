# SPDX-License-Identifier: GPL-3.0-or-later
"""Opening, decoding and writing real files, good and bad."""

from __future__ import annotations

import errno
import os
import struct
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import av
import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from pulizia.audio.samples import Samples
from pulizia.errors import DiskError, MediaError, PuliziaError
from pulizia.media import write as writing
from pulizia.media.folders import prune
from pulizia.media.open import open_media
from pulizia.media.wav_chunks import read_layout
from pulizia.media.write import FlacWriter, WavWriter, quantised, write_text

FRAMES = 50_001


def signal(channels: int = 2, frames: int = FRAMES) -> Samples:
    t = np.arange(frames) / 48_000
    return np.stack([0.4 * np.sin(2 * np.pi * (300 + 200 * c) * t) for c in range(channels)]).astype(np.float32)


@pytest.mark.parametrize(("name", "subtype", "error"), [
    ("a.wav", "PCM_U8", 2**-7), ("b.wav", "PCM_16", 2**-15), ("c.wav", "PCM_24", 2**-23), ("d.wav", "PCM_32", 1e-7),
    ("e.wav", "FLOAT", 0), ("f.wav", "DOUBLE", 0), ("g.flac", "PCM_16", 2**-15), ("h.aiff", "PCM_24", 2**-23),
    ("i.ogg", "VORBIS", 0.05), ("j.w64", "PCM_24", 2**-23), ("k.caf", "PCM_16", 2**-15), ("l.mp3", "MPEG_LAYER_III", 0.1),
    ("m.wav", "ULAW", 0.03), ("n.rf64", "PCM_16", 2**-15),
])  # fmt: skip
def test_sound_files_open_with_every_frame_in_place(tmp_path: Path, name: str, subtype: str, error: float) -> None:
    path = tmp_path / name
    kind = {"rf64": "RF64"}.get(name.split(".")[1])
    soundfile.write(path, signal().T, 48_000, subtype=subtype, format=kind)
    media = open_media(path)
    source = media.source
    assert (source.rate, source.channels, source.frames) == (48_000, 2, FRAMES)
    read = source.read(0, FRAMES)
    assert read.dtype == np.float32
    assert np.abs(read - signal()).max() <= error * 1.01
    assert np.array_equal(source.read(20_000, 20_100), read[:, 20_000:20_100])
    assert open_media(path).fingerprint == media.fingerprint


@pytest.mark.parametrize(("suffix", "codec", "exact", "called"), [
    ("m4a", "aac", True, "AAC"), ("mp4", "aac", True, "AAC"), ("mov", "aac", True, "AAC"), ("mkv", "aac", False, "AAC"),
    ("mkv", "flac", True, "FLAC"), ("mkv", "ac3", False, "AC-3"), ("opus", "libopus", True, "Ogg Opus"),
    ("mp3", "libmp3lame", True, "MP3"), ("mka", "pcm_s16le", True, "16-bit"), ("mov", "pcm_s24le", True, "24-bit"),
    ("mov", "pcm_f32le", True, "32-bit float"),
])  # fmt: skip
def test_coded_sound_begins_on_its_sample_and_has_its_length_and_name(
    tmp_path: Path, suffix: str, codec: str, called: str, *, exact: bool
) -> None:
    path = tmp_path / f"x.{suffix}"
    impulse = np.zeros((1, FRAMES), np.float32)
    impulse[0, 20_000:20_020] = 0.9
    with av.open(str(path), "w") as container:
        stream = container.add_stream(codec, rate=48_000)
        stream.layout = "mono"
        frame = av.AudioFrame.from_ndarray(impulse, format="fltp", layout="mono")
        frame.sample_rate, frame.pts = 48_000, 0
        size = stream.codec_context.frame_size or 1024
        resampler = av.AudioResampler(format=stream.codec_context.format, layout="mono", rate=48_000, frame_size=size)
        for part in [*resampler.resample(frame), *resampler.resample(None)]:
            container.mux(stream.encode(part))
        container.mux(stream.encode(None))
    media = open_media(path)
    assert media.format_line == f"48 kHz, {called}, mono"
    source = media.source
    read = source.read(0, source.frames)
    centre = np.sum(np.arange(source.frames) * read[0] ** 2) / np.sum(read[0] ** 2)
    assert centre == pytest.approx(20_009.5, abs=8)
    assert source.frames == FRAMES if exact else 0 <= source.frames - FRAMES < 1024


def test_recorder_metadata_and_channel_names_are_read(tmp_path: Path) -> None:
    path = tmp_path / "rec.wav"
    soundfile.write(path, signal().T, 48_000, subtype="PCM_24")
    bext = b"A scene".ljust(256, b"\0") + b"Recorder".ljust(32, b"\0") + bytes(32) + b"2026-05-0410:11:12"
    bext += struct.pack("<II", 1_728_000_000, 0) + struct.pack("<H", 1) + bytes(254)
    ixml = b"<BWFXML><SCENE>12A</SCENE><TAKE>3</TAKE><TRACK_LIST><TRACK><NAME>Boom</NAME></TRACK><TRACK><NAME>Lav</NAME></TRACK></TRACK_LIST></BWFXML>"
    content = path.read_bytes()
    for name, body in ((b"bext", bext), (b"iXML", ixml)):
        content += name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1)
    path.write_bytes(content[:4] + struct.pack("<I", len(content) - 8) + content[8:])
    media = open_media(path)
    assert media.channel_names == ("Boom", "Lav")
    assert media.metadata["scene"] == "12A"
    assert media.metadata["description"] == "A scene"
    assert int(media.metadata["frames_since_midnight"]) == 36_000 * 48_000


def bad_files(folder: Path) -> dict[str, Path]:
    whole = folder / "whole.wav"
    soundfile.write(whole, signal().T, 48_000, subtype="PCM_24")
    content = whole.read_bytes()
    flac = folder / "whole.flac"
    soundfile.write(flac, signal().T, 48_000)
    makes: dict[str, bytes] = {
        "empty.wav": b"", "header.wav": content[:36], "no-data.wav": content[:30], "text.wav": b"not sound at all",
        "picture.png": b"\x89PNG\r\n\x1a\n" + bytes(200), "zero.mp4": b"", "noise.mp3": bytes(range(256)) * 8,
        "cut.flac": flac.read_bytes()[:60], "no-channels.wav": content[:22] + b"\0\0" + content[24:],
        "no-frames.wav": content[:40] + bytes(4),
    }  # fmt: skip
    for name, body in makes.items():
        (folder / name).write_bytes(body)
    return {name: folder / name for name in makes} | {"missing.wav": folder / "missing.wav", "folder": folder}


def test_each_bad_file_gets_one_sentence_that_says_what_to_do(tmp_path: Path) -> None:
    for name, path in bad_files(tmp_path).items():
        with pytest.raises(MediaError) as caught:
            open_media(path)
        sentence = str(caught.value)
        assert path.name in sentence, name
        assert "\n" not in sentence
        assert "Traceback" not in sentence


def test_a_truncated_file_opens_as_far_as_it_goes_and_says_so(tmp_path: Path) -> None:
    path = tmp_path / "t.wav"
    soundfile.write(path, signal().T, 48_000, subtype="PCM_24")
    path.write_bytes(path.read_bytes()[:-30_000])
    media = open_media(path)
    assert media.source.frames == FRAMES - 5000
    assert "cut short" in media.warning


def test_not_a_number_is_read_as_silence_and_told(tmp_path: Path) -> None:
    samples = signal()
    samples[0, 100], samples[1, 200], samples[0, 300] = np.nan, np.inf, 1e30
    path = tmp_path / "nan.wav"
    soundfile.write(path, samples.T, 48_000, subtype="FLOAT")
    source = open_media(path).source
    read = source.read(0, 1000)
    assert source.cleaned
    assert not read[0, 100]
    assert not read[0, 300]
    assert np.isfinite(read).all()


def test_a_file_that_shrinks_or_goes_away_is_reported_not_fatal(voice_file: Path) -> None:
    source = open_media(voice_file).source
    os.utime(voice_file)  # touched but the same: no harm
    assert source.read(0, 100).shape == (1, 100)
    content = voice_file.read_bytes()
    voice_file.write_bytes(content[:60_000] + bytes(len(content) - 60_000))
    with pytest.raises(MediaError, match="changed by another program"):
        source.read(0, 100)
    voice_file.write_bytes(content)
    assert source.read(0, 100).shape == (1, 100)
    voice_file.write_bytes(content[:1000])
    with pytest.raises(MediaError, match="cut short"):
        source.read(0, 100)
    voice_file.unlink()
    with pytest.raises(MediaError, match="no longer there"):
        source.read(0, 100)


@settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
@given(cut=st.integers(0, 80), junk=st.binary(max_size=120))
def test_damaged_headers_never_raise_anything_else(tmp_path: Path, cut: int, junk: bytes) -> None:
    path = tmp_path / "fuzz.wav"
    if not path.exists():
        soundfile.write(path, signal(frames=500).T, 48_000)
    damaged = tmp_path / "damaged.wav"
    damaged.write_bytes(path.read_bytes()[:cut] + junk)
    try:
        layout = read_layout(damaged)
    except MediaError:
        return
    assert layout.frames >= 0


def test_dither_has_no_offset_and_half_a_step_of_noise() -> None:
    """TPDF: mean 0, RMS LSB/2 whatever the signal (Lipshitz, Wannamaker and Vanderkooy 1992)."""
    for constant in (0.0, 0.3, 0.5):
        quiet = np.full((1, 400_000), constant / 32768, np.float32)
        codes = quantised(quiet, 16, dither=np.random.default_rng(1))
        error = codes - constant
        assert error.mean() == pytest.approx(0.0, abs=0.01)
        assert error.std() == pytest.approx(0.5, abs=0.01)
    assert np.array_equal(
        quantised(np.array([[1.0, -1.0, 2.0]], np.float32), 16, dither=None), [[32767, -32768, 32767]]
    )


@pytest.mark.parametrize(("maker", "bits", "name"), [
    (WavWriter, "int24", "o.wav"), (WavWriter, "float32", "o.wav"), (FlacWriter, "int24", "o.flac"), (WavWriter, "int16", "o.wav"),
])  # fmt: skip
@pytest.mark.parametrize("channels", [1, 2, 6])
def test_written_files_are_read_back_by_another_library(
    tmp_path: Path, maker: type, bits: str, name: str, channels: int
) -> None:
    path = tmp_path / name
    samples = signal(channels)
    with maker(path, rate=48_000, channels=channels, sample_format=bits) as writer:
        writer.write(samples[:, :777])
        writer.write(samples[:, 777:])
    read, rate = soundfile.read(path, dtype="float32", always_2d=True)
    assert rate == 48_000
    assert read.shape == (FRAMES, channels)
    limit = {"int16": 2.5 * 2**-15, "int24": 2**-24 * 1.01, "float32": 0}[bits]
    assert np.abs(read.T - samples).max() <= limit
    assert sorted(p.name for p in tmp_path.iterdir()) == [name]


def test_beyond_four_gigabytes_the_header_becomes_rf64(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(writing, "UNKNOWN_SIZE", 5000)
    path = tmp_path / "long.wav"
    with WavWriter(path, rate=48_000, channels=1, sample_format="int24") as writer:
        writer.write(signal(1))
    content = path.read_bytes()
    assert content[:4] == b"RF64"
    assert content[12:16] == b"ds64"
    riff, data, frames = struct.unpack("<QQQ", content[20:44])
    assert (riff, data, frames) == (len(content) - 8, FRAMES * 3, FRAMES)


def test_a_full_disk_leaves_nothing_and_keeps_the_old_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "kept.wav"
    path.write_bytes(b"the old one")

    def full(_descriptor: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with (
        pytest.raises(DiskError, match="disk is full"),
        WavWriter(path, rate=8000, channels=1, sample_format="int24") as writer,
    ):
        writer.write(signal(1))
    with pytest.raises(DiskError, match="disk is full"):
        write_text(path, "new")
    assert path.read_bytes() == b"the old one"
    assert [p.name for p in tmp_path.iterdir()] == ["kept.wav"]


def test_a_real_size_limit_of_the_system_ends_in_one_sentence(tmp_path: Path, voice_file: Path) -> None:
    program = (
        "import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN);"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000));"
        "from pulizia.cli.main import main; sys.exit(main(sys.argv[1:]))"
    )
    recipe = tmp_path / "r.json"
    recipe.write_text('{"format": "pulizia-recipe", "version": 1, "name": "n", "steps": [{"tool": "level"}]}')
    target = tmp_path / "out.wav"
    command = [sys.executable, "-c", program, "repair", str(voice_file), "--recipe", str(recipe), "-o", str(target)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert done.stderr.count("\n") == 1
    assert "out.wav" in done.stderr
    assert not target.exists()
    assert not list(tmp_path.glob(".*part"))


def test_wrong_targets_are_refused(tmp_path: Path) -> None:
    with pytest.raises(DiskError, match="does not exist"):
        WavWriter(tmp_path / "no" / "x.wav", rate=8000, channels=1, sample_format="int16")
    with pytest.raises(PuliziaError, match="FLAC cannot hold floats"):
        FlacWriter(tmp_path / "x.flac", rate=8000, channels=1, sample_format="float32")
    if os.geteuid() != 0:
        (tmp_path / "locked").mkdir(mode=0o500)
        with pytest.raises(DiskError, match="cannot be written to"):
            WavWriter(tmp_path / "locked" / "x.wav", rate=8000, channels=1, sample_format="int16")


def test_opening_tells_progress_and_can_be_stopped(tmp_path: Path) -> None:
    path = tmp_path / "long.flac"
    soundfile.write(path, signal(frames=600_000).T, 48_000)

    class StopError(Exception):
        pass

    def stop(share: float) -> None:
        assert 0 <= share <= 1
        raise StopError

    with pytest.raises(StopError):
        open_media(path, stop)
    assert open_media(path).source.frames == 600_000


def test_caches_are_pruned_oldest_first(tmp_path: Path) -> None:
    for n in range(5):
        (tmp_path / f"{n}").write_bytes(bytes(100))
        os.utime(tmp_path / f"{n}", (n, n))
    prune(tmp_path, 250)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["3", "4"]


def test_sources_stay_as_they_were(wav: Callable[..., Path], untouched: Callable[[Path], None]) -> None:
    path = wav(signal())
    untouched(path)
    source = open_media(path).source
    source.read(0, source.frames)

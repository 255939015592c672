# SPDX-License-Identifier: GPL-3.0-or-later
"""Sound that goes back into its picture file."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise
from tests.films import write_film

from pulizia.delivery.targets import target_of
from pulizia.measure.loudness import measure
from pulizia.measure.same_sound import find_same
from pulizia.media.open import open_media

RATE = 48_000
EBU = target_of("ebu-r128")


@pytest.fixture
def film(tmp_path: Path) -> Path:
    """Two seconds of picture with two sound streams, the first beginning 0.1 s late."""
    path = tmp_path / "film.mp4"
    with av.open(str(path), "w") as out:
        picture = out.add_stream("mpeg4", rate=25)
        picture.width, picture.height, picture.pix_fmt = 64, 48, "yuv420p"
        sounds = [out.add_stream("aac", rate=RATE) for _ in range(2)]
        for stream in sounds:
            stream.codec_context.layout = "stereo"
            stream.codec_context.format = "fltp"
        sounds[1].metadata["language"] = "ita"
        for n in range(50):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), n * 5, np.uint8), format="rgb24")
            for packet in picture.encode(frame):
                out.mux(packet)
        voice = voice_in_noise(2.0, channels=2)
        for late, stream in zip((4800, 0), sounds, strict=True):
            for start in range(0, 2 * RATE - late, 1024):
                block = np.ascontiguousarray(voice[:, start : start + 1024])
                frame = av.AudioFrame.from_ndarray(block, format="fltp", layout="stereo")
                frame.sample_rate, frame.pts, frame.time_base = RATE, start + late, Fraction(1, RATE)
                for packet in stream.encode(frame):
                    out.mux(packet)
            for packet in stream.encode(None):
                out.mux(packet)
        for packet in picture.encode(None):
            out.mux(packet)
    return path


def packets(path: Path, kind: str, index: int = 0) -> list[tuple[Fraction, bytes]]:
    with av.open(str(path)) as file:
        stream = [s for s in file.streams if s.type == kind][index]
        return [(p.pts * p.time_base, bytes(p)) for p in file.demux(stream) if p.size]


def first_frame_s(path: Path) -> float:
    with av.open(str(path)) as file:
        frame = next(file.decode(audio=0))
        return float(frame.pts * frame.time_base)


@pytest.mark.parametrize("suffix", [".mp4", ".mov", ".mkv"])
def test_sound_goes_back_into_the_picture_and_the_picture_is_the_same_packet_for_packet(
    capsys, film: Path, tmp_path: Path, untouched, suffix: str
) -> None:
    untouched(film)
    target = tmp_path / f"out{suffix}"
    code, _, err = run(capsys, "deliver", film, "--target", "ebu-r128", "-o", target)
    assert (code, err) == (0, "")
    before, after = packets(film, "video"), packets(target, "video")
    assert [b for _, b in before] == [b for _, b in after]
    shift = float(after[0][0] - before[0][0])  # Matroska moves all streams until none begins before 0
    assert [float(t) - shift for t, _ in after] == pytest.approx([float(t) for t, _ in before], abs=0.0011)
    assert [b for _, b in packets(film, "audio", 1)] == [b for _, b in packets(target, "audio", 1)]
    with av.open(str(target)) as file:
        assert file.streams.audio[1].metadata.get("language") == "ita"
    worked, raw = open_media(target).source, open_media(film).source
    assert measure(worked).integrated_lufs == pytest.approx(-23.0, abs=0.1)
    found = find_same(worked, raw)
    assert first_frame_s(target) - shift - found.offset_s == pytest.approx(
        first_frame_s(film), abs=0.0011 if suffix == ".mkv" else 1.5 / RATE
    )  # in sync; Matroska counts milliseconds


@pytest.mark.parametrize(
    ("suffix", "timecode"), [(".mov", "10:00:00:00"), (".mkv", "not a timecode"), (".mp4", "99:99:99:99")]
)
def test_pictures_of_variable_rate_keep_every_moment_and_odd_timecodes_do_no_harm(
    capsys, tmp_path: Path, suffix: str, timecode: str
) -> None:
    path = tmp_path / f"film{suffix}"
    moments = np.cumsum([0, 40, 33, 120, 17, 17, 400, 1, 40, 40, 250, 33, 33, 90, 40, 300, 25, 25, 60, 500])
    write_film(path, voice_in_noise(2.0), RATE, moments.tolist(), {"comment": timecode})
    target = tmp_path / f"out{suffix}"
    code, _, err = run(capsys, "deliver", path, "--target", "ebu-r128", "-o", target)
    assert (code, err) == (0, "")
    before, after = packets(path, "video"), packets(target, "video")
    assert [b for _, b in before] == [b for _, b in after]
    shift = float(after[0][0] - before[0][0])
    assert [float(t) - shift for t, _ in after] == pytest.approx([float(t) for t, _ in before], abs=0.0011)


def test_what_cannot_be_put_back_is_told(capsys, voice_file: Path, film: Path, tmp_path: Path) -> None:
    code, _, err = run(capsys, "deliver", voice_file, "--target", "ebu-r128", "-o", tmp_path / "x.mp4")
    assert code == 1
    assert "does not come from one" in err
    silent = tmp_path / "silent.mp4"
    with av.open(str(film)) as source, av.open(str(silent), "w") as out:
        stream = out.add_stream_from_template(source.streams.video[0])
        for packet in source.demux(source.streams.video[0]):
            if packet.size:
                packet.stream = stream
                out.mux(packet)
    code, _, err = run(capsys, "deliver", silent, "--target", "ebu-r128", "-o", tmp_path / "y.mp4")
    assert code == 1
    assert "without sound" in err
    assert not list(tmp_path.glob("[xy].*"))

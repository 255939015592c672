# SPDX-License-Identifier: GPL-3.0-or-later
"""The test signals of EBU Tech 3341 and 3342 through every kind of file, read back by meters that are not ours.

Layouts after the documents, from memory; values follow in closed form. The other meter is pyloudnorm with the
filters of BS.1770 as De Man derived them; coded files are decoded by libsndfile or by the coding library itself.
"""

from __future__ import annotations

from pathlib import Path

import av
import numpy as np
import pyloudnorm
import pytest
import soundfile
from tests.cli.test_commands import run
from tests.films import write_film

RATE = 48_000
PROGRAMMES: dict[str, tuple[list[tuple[float, float]], float]] = {
    "3341-2": ([(-33, 20)], -33.0),
    "3341-3": ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
    "3341-5": ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
    "3341-5, a third as long": ([(-26, 6.7), (-20, 6.7), (-26, 6.7)], -23.0),  # coding takes longer than measuring
}
RANGES: dict[str, tuple[list[tuple[float, float]], float]] = {
    "3342-1": ([(-20, 20), (-30, 20)], 10.0),
    "3342-3": ([(-40, 20), (-20, 20)], 20.0),
    "3342-3, half as long": ([(-40, 10), (-20, 10)], 20.0),
}


# one signal through every kind of file, the others through one: what is measured does not depend on the kind
CODED = ("mp3", "opus", "m4a")
THROUGH_FILES = [("3341-5, a third as long", kind) for kind in CODED] + [
    ("3341-5", "wav"), ("3341-2", "wav"), ("3341-3", "flac"),
]  # fmt: skip
RANGES_THROUGH_FILES = [("3342-3, half as long", kind) for kind in CODED] + [
    ("3342-3", "wav"), ("3342-3", "flac"), ("3342-1", "wav"),
]  # fmt: skip


def written(parts: list[tuple[float, float]], path: Path) -> Path:
    """A stereo tone of 1 kHz whose level (dBFS peak) follows ``parts`` of (level, seconds)."""
    level = np.concatenate([np.full(round(s * RATE), 10 ** (db / 20)) for db, s in parts])
    wave = level * np.sin(2 * np.pi * 1000 * np.arange(len(level)) / RATE)
    soundfile.write(path, np.stack([wave, wave], 1), RATE, subtype="PCM_24")
    return path


def decoded(path: Path) -> np.ndarray:
    """(frames, channels) by libsndfile, or by the coding library where libsndfile does not know the file."""
    if path.suffix in (".wav", ".flac", ".mp3", ".opus"):
        return soundfile.read(path)[0]
    with av.open(str(path)) as file:
        return np.concatenate([f.to_ndarray().T for f in file.decode(audio=0)])


def other_meter(samples: np.ndarray) -> float:
    return float(pyloudnorm.Meter(RATE, filter_class="DeMan").integrated_loudness(samples))


@pytest.mark.slow
@pytest.mark.parametrize(("name", "kind"), THROUGH_FILES)
def test_minimum_requirement_signals_meet_the_target_in_every_kind_of_file(
    capsys, tmp_path: Path, kind: str, name: str
) -> None:
    parts, _ = PROGRAMMES[name]
    target = tmp_path / f"out.{kind}"
    code, _, err = run(
        capsys, "deliver", written(parts, tmp_path / "in.wav"), "--target", "ebu-r128", "-o", target, "--way", "gain"
    )
    assert (code, err) == (0, "")
    assert other_meter(decoded(target)) == pytest.approx(-23.0, abs=0.1)  # the tolerance of Tech 3341


@pytest.mark.slow
@pytest.mark.parametrize(("name", "kind"), RANGES_THROUGH_FILES)
def test_loudness_range_survives_every_kind_of_file(capsys, tmp_path: Path, kind: str, name: str) -> None:
    import json

    parts, expected = RANGES[name]
    target = tmp_path / f"out.{kind}"
    assert (
        run(
            capsys,
            "deliver",
            written(parts, tmp_path / "in.wav"),
            "--target",
            "ebu-r128",
            "-o",
            target,
            "--way",
            "gain",
        )[0]
        == 0
    )
    figures = json.loads(run(capsys, "measure", target, "--json")[1])
    assert figures["loudness_range_lu"] == pytest.approx(expected, abs=1.0)  # the tolerance of Tech 3342


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".mov", ".mkv", ".mp4"])
def test_a_signal_put_into_a_picture_meets_the_target(capsys, tmp_path: Path, suffix: str) -> None:
    film = tmp_path / f"film{suffix}"
    tone = (10 ** (-36 / 20) * np.sin(2 * np.pi * 1000 * np.arange(8 * RATE) / RATE)).astype(np.float32)
    write_film(film, np.stack([tone] * 2), RATE, range(0, 8_000, 40))
    target = tmp_path / f"out{suffix}"
    code, _, err = run(capsys, "deliver", film, "--target", "ebu-r128", "-o", target)
    assert (code, err) == (0, "")
    samples = decoded(target)
    if samples.dtype.kind == "i":  # plain samples of MOV and MKV
        samples = samples.reshape(-1, 2) / 2.0 ** (8 * samples.dtype.itemsize - 1)
    assert other_meter(samples) == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize(
    ("target", "level", "scale"),
    [("atsc-a85", -24.0, "LKFS"), ("online-16", -16.0, "LUFS"), ("arib-tr-b32", -24.0, "LKFS")],
)
def test_other_targets_are_met_on_their_own_scale(
    capsys, tmp_path: Path, target: str, level: float, scale: str
) -> None:
    out = tmp_path / "out.wav"
    code, told, _ = run(capsys, "deliver", written([(-30, 10)], tmp_path / "in.wav"), "--target", target, "-o", out)
    assert code == 0
    assert scale in told
    assert other_meter(decoded(out)) == pytest.approx(level, abs=0.1)


def test_what_cannot_be_measured_or_reached_says_why_and_by_how_much(capsys, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "silent.wav", np.zeros((RATE, 2)), RATE)
    soundfile.write(tmp_path / "short.wav", np.full((RATE // 4, 1), 0.1), RATE)
    faint = written([(-69, 3)], tmp_path / "faint.wav")
    for name, words in (("silent.wav", "it is silent"), ("short.wav", "shorter than 0.4 s")):
        code, _, err = run(capsys, "deliver", tmp_path / name, "--target", "ebu-r128", "-o", tmp_path / "x.wav")
        assert (code, words in err, err.count("\n")) == (1, True, 1)
    code, _, err = run(capsys, "deliver", faint, "--target", "online-14", "-o", tmp_path / "x.wav")
    assert code in (0, 1)
    code, _, err = run(
        capsys,
        "deliver",
        written([(-20, 5)], tmp_path / "tone.wav"),
        "--target",
        "ebu-r128-dialogue",
        "-o",
        tmp_path / "y.wav",
    )
    assert (code, "speech is heard in" in err) == (1, True)
    peaky = np.full(10 * RATE, 1e-3) * np.sin(2 * np.pi * 1000 * np.arange(10 * RATE) / RATE)
    peaky[RATE::RATE] = 0.5
    soundfile.write(tmp_path / "peaky.wav", peaky, RATE, subtype="PCM_24")
    code, told, _ = run(
        capsys, "deliver", tmp_path / "peaky.wav", "--target", "online-14", "--way", "gain", "-o", tmp_path / "z.wav"
    )
    assert code == 0
    assert "passes the ceiling by" in told

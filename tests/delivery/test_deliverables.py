# SPDX-License-Identifier: GPL-3.0-or-later
"""Every kind of output: its metadata, its loudness after reading back, the picture file, the batch, and the way back."""

from __future__ import annotations

import csv
import json
import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy.signal import butter, sosfilt
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise

from pulizia.api import demo_files
from pulizia.audio.markers import Marker
from pulizia.audio.source import ArraySource
from pulizia.delivery.deliver import deliver
from pulizia.delivery.deliverable import Deliverable, Kind, file_name, prepared
from pulizia.delivery.metadata import Metadata
from pulizia.delivery.normalise import plan
from pulizia.delivery.targets import Target, all_targets, read_targets, save_own, target_of
from pulizia.errors import DeliveryError
from pulizia.measure.dialogue import dialogue
from pulizia.measure.loudness import DUAL_MONO, measure
from pulizia.media.broadcast import Broadcast, Loudness, bext_chunk
from pulizia.media.open import open_media
from pulizia.media.resample import at_rate
from pulizia.media.tags import Tags
from pulizia.media.write import Ditherer, write_text
from pulizia.score.recipe_library import shipped_recipes

RATE = 48_000
EBU = target_of("ebu-r128")


def programme(seconds: float = 12.0, channels: int = 2) -> ArraySource:
    return ArraySource(voice_in_noise(seconds, channels=channels), RATE)


def test_bext_is_laid_out_as_tech_3285_version_2_says() -> None:
    """EBU Tech 3285 v2, table 1: offsets counted by hand."""
    said = Broadcast(
        description="Room 4",
        originator="Pulizia",
        reference="R4",
        date="2026-11-24",
        time="09:30:00",
        frames_since_midnight=(1 << 32) + 7,
        history="A=PCM\r\n",
    )
    chunk = bext_chunk(said, Loudness(integrated_lufs=-23.04, range_lu=5.5, true_peak_dbtp=-1.0, momentary_lufs=-15.25))
    assert chunk[:4] == b"bext"
    body = chunk[8:]
    assert struct.unpack("<I", chunk[4:8])[0] == len(body)
    assert len(body) % 2 == 0
    assert body[:7] == b"Room 4\0"
    assert body[256:264] == b"Pulizia\0"
    assert body[288:291] == b"R4\0"
    assert body[320:338] == b"2026-11-2409:30:00"
    assert struct.unpack("<II", body[338:346]) == (7, 1)
    assert struct.unpack("<H", body[346:348]) == (2,)
    assert struct.unpack("<hhhhh", body[412:422]) == (-2304, 550, -100, -1525, 0x7FFF)
    assert body[422:602] == bytes(180)
    assert body[602:609] == b"A=PCM\r\n"


@pytest.mark.slow
@pytest.mark.parametrize(("name", "wanted"), [
    ("a.wav", Deliverable()), ("b.wav", Deliverable(sample_format="int16", dither="shaped", rate_hz=44_100)),
    ("c.flac", Deliverable(kind="flac", sample_format="int16")), ("d.mp3", Deliverable(kind="mp3")),
    ("e.opus", Deliverable(kind="opus", bitrate_kbps=128)), ("f.m4a", Deliverable(kind="m4a", layout="mono")),
    ("g.wav", Deliverable(rate_hz=96_000, head_s=0.5, tail_s=0.25, fade_in_s=0.05, fade_out_s=0.1)),
])  # fmt: skip
def test_every_kind_of_file_meets_the_target_after_it_is_read_back(
    tmp_path: Path, name: str, wanted: Deliverable
) -> None:
    source = programme()
    said = Metadata(
        markers=(Marker(RATE * 2, "two"),),
        broadcast=Broadcast(description="Kept", scene="12", frames_since_midnight=RATE * 3600),
        tags=Tags({"title": "Kept"}),
    )
    done = deliver(source, EBU, tmp_path / name, wanted=wanted, metadata=said)
    assert done.passes
    assert not list(tmp_path.glob(".*"))
    opened = open_media(tmp_path / name)
    figures = measure(opened.source)
    assert figures.integrated_lufs == pytest.approx(-23.0, abs=0.06)
    assert figures.true_peak_dbtp <= -1.0
    expected = wanted.rate_hz or RATE
    assert opened.source.rate == expected
    seconds = 12.0 + wanted.head_s + wanted.tail_s
    slack = 0.07 if wanted.kind in ("mp3", "m4a") else 0.002
    assert opened.source.frames / expected == pytest.approx(seconds, abs=slack)
    if wanted.kind == "wav":
        assert opened.metadata["description"] == "Kept"
        assert opened.metadata["scene"] == "12"
        assert int(opened.metadata["frames_since_midnight"]) == round((3600 - wanted.head_s) * expected)
        assert opened.markers[0].frame == pytest.approx((2 + wanted.head_s) * expected, abs=1)
        raw = (tmp_path / name).read_bytes()
        at = raw.index(b"bext") + 8 + 412
        assert struct.unpack("<h", raw[at : at + 2])[0] == pytest.approx(-2300, abs=6)
    if wanted.kind in ("mp3", "m4a"):
        assert opened.metadata.get("title") == "Kept"
    if wanted.head_s:
        assert not opened.source.read(0, round(0.49 * expected)).any()


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["mp3", "opus", "m4a"])
def test_peaks_that_lossy_coding_adds_are_brought_under_the_ceiling(tmp_path: Path, kind: Kind) -> None:
    """Of speech that is limited by 10 to 20 dB: one correction is enough in a third of these."""
    online = all_targets()["online-14"]
    for path in demo_files()[1:3]:
        out = tmp_path / f"{path.stem}.{kind}"
        whole = open_media(path).source
        part = ArraySource(whole.read(0, 15 * whole.rate), whole.rate)
        done = deliver(part, online, out, wanted=Deliverable(kind=kind, bitrate_kbps=64), hard=True)
        found = measure(open_media(out).source)
        assert found.true_peak_dbtp <= -1.0
        assert found.integrated_lufs == pytest.approx(-14.0, abs=1.0)
        assert done.passes
        assert done.corrected


def test_conversion_keeps_level_and_tone_and_removes_what_would_fold_back() -> None:
    t = np.arange(2 * RATE) / RATE
    tones = 0.25 * np.stack([np.sin(2 * np.pi * 997 * t), np.sin(2 * np.pi * 23_000 * t)]).astype(np.float32)
    made = at_rate(ArraySource(tones, RATE), 44_100)
    sound = made.read(4410, made.frames - 4410)
    assert made.frames == 88_200
    assert np.abs(sound[0]).max() == pytest.approx(0.25, rel=1e-3)
    assert np.abs(sound[1]).max() < 1e-4
    again = at_rate(ArraySource(tones, RATE), 44_100)
    assert np.array_equal(again.read(0, 1000), made.read(0, 1000))


def test_shaped_dither_moves_its_error_up_and_stays_free_of_the_signal() -> None:
    quiet = (10 ** (-100 / 20) * np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE))[:, None].astype(np.float32)
    errors = {}
    for kind in ("triangular", "shaped"):
        codes = np.concatenate([Ditherer(kind, 1).codes(quiet[:20_000], 16), np.zeros((0, 1), np.int32)])
        errors[kind] = np.abs(np.fft.rfft((codes[:, 0] - quiet[:20_000, 0] * 32_768) * np.hanning(20_000))) ** 2
    hz = np.fft.rfftfreq(20_000, 1 / RATE)
    ear = (hz > 1500) & (hz < 5000)
    assert 10 * np.log10(errors["triangular"][ear].mean() / errors["shaped"][ear].mean()) > 6
    split = Ditherer("shaped", 1)
    parts = np.concatenate([split.codes(quiet[:5000], 16), split.codes(quiet[5000:9000], 16)])
    assert np.abs(parts[:, 0] / 32_768 - quiet[:9000, 0]).max() < 2e-4


def test_dialogue_targets_count_speech_only_and_refuse_programmes_without() -> None:
    rng = np.random.default_rng(1)
    voice = voice_in_noise(20.0)
    music = (0.2 * rng.standard_normal((1, 20 * RATE))).astype(np.float32)
    quiet_voice = ArraySource(voice, RATE)
    target = target_of("atsc-a85-dialogue")
    made = plan(quiet_voice, target)
    assert dialogue(made.result).lufs == pytest.approx(-24.0, abs=0.1)
    assert 20 < made.speech_percent < 90
    with pytest.raises(DeliveryError, match="measures speech only"):
        plan(ArraySource(music, RATE), target)


def test_ways_of_normalising_say_what_they_reach() -> None:
    source = programme(channels=1)
    loud = Target(id="x", title="X", integrated_lufs=-9.0, tolerance_lu=0.5, true_peak_dbtp=-1.0)
    plain = plan(source, loud, way="gain")
    assert not plain.limited
    assert plain.predicted.true_peak_dbtp > -1.0
    assert "By gain alone" in plain.note
    even = Target(
        id="y", title="Y", integrated_lufs=-23.0, tolerance_lu=0.5, true_peak_dbtp=-1.0, loudness_range_max_lu=6.0
    )
    long = ArraySource(np.concatenate([voice_in_noise(12.0), voice_in_noise(12.0) * 0.3], axis=1), RATE)
    before = plan(long, even)
    after = plan(long, even, way="level")
    assert after.levelled > 0
    assert after.predicted.loudness_range_lu < before.predicted.loudness_range_lu - 1
    assert after.predicted.integrated_lufs == pytest.approx(-23.0, abs=0.05)
    dual = plan(source, even, names=(DUAL_MONO,))
    single = plan(source, even)
    assert single.gain_db - dual.gain_db == pytest.approx(3.01, abs=0.05)


def test_layouts_and_names() -> None:
    source = programme(2.0)
    mono = prepared(source, Deliverable(layout="mono")).read(0, 1000)
    assert mono == pytest.approx(source.read(0, 1000).mean(axis=0, keepdims=True), abs=1e-6)
    six = ArraySource(np.eye(6, 1000, dtype=np.float32), RATE)
    assert prepared(six, Deliverable(layout="stereo")).channels == 2
    assert file_name("{name}-{target}: {kind}", {"name": "a/b", "target": "ebu"}, "mp3") == "a-b-ebu- mp3.mp3"
    with pytest.raises(DeliveryError, match="known are"):
        file_name("{nam}", {}, "wav")
    with pytest.raises(DeliveryError, match="leaves no name"):
        file_name("{steps}", {}, "wav")
    with pytest.raises(DeliveryError, match="32 to 320"):
        Deliverable(kind="mp3", bitrate_kbps=999)


def test_own_targets_are_kept_and_shipped_ones_name_their_document(tmp_path: Path) -> None:
    assert {"ebu-r128", "atsc-a85", "arib-tr-b32", "op-59", "online-14", "online-16", "online-18", "online-19"} <= set(
        all_targets()
    )
    assert all(t.source for t in all_targets().values())
    own = Target(
        id="house", title="House", integrated_lufs=-20.0, tolerance_lu=1.0, true_peak_dbtp=-2.0, gate="dialogue"
    )
    save_own(own, tmp_path, write_text)
    assert all_targets(tmp_path)["house"] == own
    with pytest.raises(DeliveryError, match="shipped"):
        save_own(
            Target(id="ebu-r128", title="E", integrated_lufs=-20.0, tolerance_lu=1.0, true_peak_dbtp=-2.0),
            tmp_path,
            write_text,
        )
    with pytest.raises(DeliveryError, match="gate"):
        read_targets(
            '{"targets": [{"id": "a", "title": "A", "integrated_lufs": -20, "tolerance_lu": 1, "true_peak_dbtp": -1, "gate": "x"}]}',
            "t.json",
        )


@pytest.mark.slow
def test_a_batch_goes_on_after_a_failure_and_can_be_taken_up_again(
    capsys, wav: Callable[..., Path], tmp_path: Path
) -> None:
    good = [wav(voice_in_noise(3.0, seed=n), f"take{n}.wav") for n in range(3)]
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"RIFF")
    out = tmp_path / "out"
    code, told, err = run(
        capsys, "deliver", *good, bad, "--target", "ebu-r128", "-o", out, "--format", "mp3", "--report", tmp_path
    )
    assert code == 1
    assert err.count("\n") == 1
    assert "bad.wav" in err
    assert "3 of 4 files written; 1 failed: bad.wav." in told
    assert len(list(out.glob("*.mp3"))) == 3
    assert len(list(tmp_path.glob("take*.html"))) == 3
    (out / "take1.mp3").unlink()
    for page in tmp_path.glob("take*.html"):
        page.unlink()
    code, told, _ = run(capsys, "deliver", *good, "--target", "ebu-r128", "-o", out, "--format", "mp3", "--resume")
    assert code == 0
    assert "2 were there already" in told
    assert (out / "take1.mp3").exists()


def test_the_report_says_everything_on_one_page_in_json_and_csv(capsys, voice_file: Path, tmp_path: Path) -> None:
    target = tmp_path / "p.wav"
    for suffix in (".html", ".json", ".csv"):
        code, _, err = run(
            capsys,
            "deliver",
            voice_file,
            "--target",
            "online-16",
            "--recipe",
            "hard-s",
            "-o",
            target,
            "--report",
            tmp_path / f"r{suffix}",
            "--overwrite",
        )
        assert (code, err) == (0, "")
    page = (tmp_path / "r.html").read_text()
    content = json.loads((tmp_path / "r.json").read_text())
    for word in ("Within every limit", "Steps applied", "Sibilance", "SHA-256", content["sha256"], "BS.1770-5", "svg"):
        assert word in page
    rows = list(csv.reader((tmp_path / "r.csv").read_text().splitlines()))
    assert rows[0] == ["limit", "allowed", "measured", "verdict"]
    levels = [
        float(r[2])
        for r in rows[rows.index(["seconds", "momentary LUFS", "short-term LUFS", "true peak dBTP"]) + 1 :]
        if r[2]
    ]
    assert max(levels) == pytest.approx(content["written_file"]["short_term_max_lufs"], abs=0.5)


@pytest.mark.slow
def test_shipped_recipes_run_and_adapt(capsys, wav: Callable[..., Path], tmp_path: Path) -> None:
    path = wav(voice_in_noise(6.0), "six.wav")
    for name in shipped_recipes():
        code, _, err = run(capsys, "repair", path, "--recipe", name, "-o", tmp_path / f"{name}.wav")
        assert (code, err) == (0, ""), name
    code, told, _ = run(capsys, "repair", path, "--treat", "-o", tmp_path / "treated.flac")
    assert code == 0
    assert soundfile.info(tmp_path / "treated.flac").frames == 6 * RATE
    code, told, _ = run(capsys, "recipes", "--json")
    assert {"close-narration", "last-rescue"} <= {row["id"] for row in json.loads(told)}


@pytest.mark.slow
def test_a_worked_passage_is_found_in_the_raw_recordings(capsys, wav: Callable[..., Path], tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    raw = voice_in_noise(40.0, seed=1)[0]
    pitchless = np.convolve(rng.standard_normal(40 * RATE), np.hanning(40), "same") * np.interp(
        np.arange(40 * RATE), np.arange(0, 40 * RATE, 7000), rng.uniform(0, 0.05, -(-40 * RATE // 7000))
    )
    raw = raw + pitchless
    other = np.roll(raw, 7 * RATE)[::-1].copy()
    folder = tmp_path / "raw"
    folder.mkdir()
    soundfile.write(folder / "right.wav", raw, RATE, subtype="PCM_24")
    soundfile.write(folder / "wrong.wav", other, RATE, subtype="PCM_24")
    passage = sosfilt(butter(2, (150, 6000), "band", fs=RATE, output="sos"), raw[12 * RATE + 123 : 24 * RATE]) * 0.04
    worked = wav((passage + rng.normal(0, 1e-5, len(passage)))[None].astype(np.float32), "worked.wav")
    code, told, _ = run(capsys, "find", worked, "--among", folder, "--json")
    rows = json.loads(told)
    assert code == 0
    assert [Path(r["file"]).name for r in rows] == ["right.wav"]
    assert rows[0]["offset_s"] == pytest.approx(12 + 123 / RATE, abs=0.001)
    assert rows[0]["gain_db"] == pytest.approx(-28, abs=2)
    target = tmp_path / "back.wav"
    code, told, _ = run(capsys, "find", worked, "--among", folder, "--put-back", 3, 5, "-o", target)
    assert (code, "put back" in told) == (0, True)
    back, was = soundfile.read(target)[0], soundfile.read(worked)[0]
    inner = slice(3 * RATE + 600, 5 * RATE - 600)
    place, gain = round(rows[0]["offset_s"] * RATE), 10 ** (rows[0]["gain_db"] / 20)
    assert np.abs(back[inner] - gain * raw[place:][inner]).max() < 2e-5
    outside = np.r_[0 : 3 * RATE, 5 * RATE : len(was)]
    assert np.abs(back[outside] - was[outside]).max() < 2e-7
    code, _, err = run(capsys, "find", worked, "--among", folder, "--put-back", 3, 500, "-o", tmp_path / "no.wav")
    assert (code, "does not lie inside" in err) == (1, True)
    code, _, err = run(capsys, "find", worked, "--among", folder, "-o", tmp_path / "no.wav")
    assert (code, "give both" in err) == (1, True)
    code, _, err = run(capsys, "find", worked, "--among", folder / "wrong.wav")
    assert code == 1
    assert "was not found" in err


def test_the_size_that_is_told_holds_what_is_written(tmp_path: Path) -> None:
    film = tmp_path / "film.mov"
    film.write_bytes(b"\0" * 5_000_000)
    hour = (3600.0, 48_000, 2)
    assert Deliverable(head_s=2.0).most_bytes(10.0, 48_000, 2, None) == 12 * 48_000 * 2 * 3
    assert (
        Deliverable(kind="flac", sample_format="int16", layout="mono", rate_hz=44_100).most_bytes(*hour, None)
        == 3600 * 44_100 * 2
    )
    assert Deliverable(kind="mp3", bitrate_kbps=192).most_bytes(*hour, film) == 3600 * 24_000
    # the video as it is, and its new sound: plain where the file can hold that
    assert Deliverable(kind="picture").most_bytes(*hour, film) == 5_000_000 + 3600 * 48_000 * 2 * 3
    assert Deliverable(kind="picture", bitrate_kbps=160).most_bytes(*hour, film.with_suffix(".mp4")) == 3600 * 20_000

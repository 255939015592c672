# SPDX-License-Identifier: GPL-3.0-or-later
"""Templates of a job: saved from a programme, read back, and filled with the recordings of the next one."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import voice_in_noise

from pulizia.audio.spans import Span
from pulizia.cli.main import main
from pulizia.media.broadcast import Broadcast, ixml_chunk
from pulizia.media.write import WavWriter
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project
from pulizia.project.model import Recording
from pulizia.project.templates import (
    TemplateError,
    parse_template,
    programme_of_template,
    shipped_templates,
    template_of,
    template_text,
)
from pulizia.score.steps import make_step

RATE = 48_000


def test_a_programme_comes_back_from_its_template_without_its_clips() -> None:
    step = replace(make_step("noise", {"reduction_db": 7.0}), spans=(Span(0, 100),))
    programme = Programme(
        name="Reel", rate=RATE, channels=1, picture_rate=Fraction(30000, 1001), drop_frame=True, start_frame=107_892,
        target_id="atsc-a85",
        lanes=(
            Lane(name="Boom", clips=(Clip(recording_id="a", start=0, inner=0, frames=RATE),), steps=(step,), gain_db=-2.5, stem="Dialogue", group="Set", height=1.7),
            Lane(name="Air", kind="atmosphere", placement="L"),
        ),
    )  # fmt: skip
    template = parse_template(template_text(template_of(programme, "ebu-r128")), "reel.json")
    made = programme_of_template(template, {}, "Next")
    assert (made.name, made.rate, made.channels, made.picture_rate, made.drop_frame) == (
        "Next",
        RATE,
        1,
        Fraction(30000, 1001),
        True,
    )
    assert made.start_frame == 107_892
    assert made.target_id == "atsc-a85"
    assert [(x.name, x.kind, x.gain_db, x.stem, x.placement, x.clips) for x in made.lanes] == [
        ("Boom", "voice", -2.5, "Dialogue", "", ()), ("Air", "atmosphere", 0.0, "", "L", ()),
    ]  # fmt: skip
    assert [(x.group, x.height) for x in made.lanes] == [("Set", 1.7), ("", 1.0)]
    again = made.lanes[0].steps[0]
    assert (again.settings, again.spans) == (step.settings, None)
    assert again.id != step.id


def test_recordings_lie_behind_each_other_with_the_pause_of_the_template() -> None:
    template = replace(shipped_templates()["audio-guide"], rate=0, gap_s=0.5)
    rows = [
        Recording(path=Path(f"/r{n}.wav"), name=f"r{n}", fingerprint="", rate=44_100, channels=1, frames=44_100 * n)
        for n in (1, 2)
    ]
    made = programme_of_template(template, {template.lanes[0].name: [(row, None) for row in rows]})
    assert made.rate == 44_100
    assert [(c.start, c.frames) for c in made.lanes[0].clips] == [(0, 44_100), (66_150, 88_200)]


def test_each_microphone_of_a_recorder_goes_onto_a_lane_of_its_own(tmp_path: Path, capsys) -> None:
    path, plain = tmp_path / "take.wav", tmp_path / "plain.wav"
    for target, names in ((path, ("Bert", "Speaker 1")), (plain, ())):
        said = ixml_chunk(Broadcast(channel_names=names), rate=RATE) if names else b""
        with WavWriter(target, rate=RATE, channels=2, sample_format="int24", chunks=said) as writer:
            writer.write(np.stack([voice_in_noise(1.0)[0]] * 2))
    out = tmp_path / "job.pulizia"

    def channels(*given: str) -> list[list[int | None]]:
        assert main(["from-template", "two-person-interview", *given, "-o", str(out), "--overwrite"]) == 0
        return [[c.channel for c in lane.clips] for lane in load_project(out).programmes[0].lanes]

    one, two = "Speaker 1", "Speaker 2"
    assert channels("--lane", one, str(path), "--lane", two, str(path)) == [[1], [0], []]  # by name first
    assert channels("--each", str(path)) == [[1], [0], []]
    assert channels("--each", str(plain)) == [[None], [], []]
    assert channels("--lane", one, str(plain), "--lane", two, f"{plain}:2") == [[None], [1], []]
    assert channels("--lane", one, str(path)) == [[None], [], []]
    capsys.readouterr()
    assert (
        main(["from-template", "two-person-interview", "--lane", one, f"{path}:3", "-o", str(out), "--overwrite"]) == 1
    )
    assert "take.wav has 2 channels; there is no channel 3." in capsys.readouterr().err


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "Choose a template"),
        ('{"format": "other"}', "is not a template"),
        ('{"format": "pulizia-template", "version": 99}', "newer"),
        ('{"format": "pulizia-template", "version": 1, "name": "x", "lanes": [{"name": "a", "kind": "tuba"}]}', "tuba|kind"),
        ('{"format": "pulizia-template", "version": 1, "name": "x", "lanes": [], "steps": [{"tool": "gone"}]}', "damaged"),
        ('{"format": "pulizia-template", "version": 1, "name": "x", "lanes": [], "rate": -5}', "out of range"),
        ('{"format": "pulizia-template", "version": 1, "name": "x", "lanes": [], "picture_rate": "1/0"}', "damaged"),
    ],
)  # fmt: skip
def test_a_wrong_template_gets_one_sentence(text: str, said: str) -> None:
    with pytest.raises(TemplateError, match=said) as found:
        parse_template(text, "job.json")
    assert "job.json" in str(found.value)
    assert "\n" not in str(found.value)


def test_every_starter_of_the_program_makes_a_programme() -> None:
    starters = shipped_templates()
    assert {"audio-guide", "two-person-interview", "documentary-reel", "lesson-series"} <= set(starters)
    for template in starters.values():
        made = programme_of_template(template, {})
        assert [lane.name for lane in made.lanes] == [lane.name for lane in template.lanes]
        assert any(lane.kind == "voice" for lane in made.lanes)


def test_a_job_begins_and_is_kept_on_the_command_line(
    wav: Callable[..., Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    a, b = wav(voice_in_noise(2.0), "one.wav"), wav(voice_in_noise(3.0), "two.wav")
    assert main(["templates", "--json"]) == 0
    known = {row["id"]: row for row in json.loads(capsys.readouterr().out)}
    first, second = (lane["name"] for lane in known["two-person-interview"]["lanes"][:2])
    job = tmp_path / "job.pulizia"
    assert (
        main(
            ["from-template", "two-person-interview", "--lane", first, str(a), "--lane", second, str(b), "-o", str(job)]
        )
        == 0
    )
    project = load_project(job)
    (programme,) = project.programmes
    assert [len(lane.clips) for lane in programme.lanes[:2]] == [1, 1]
    assert [s["tool"] for s in json.loads(job.read_text())["programmes"][0]["lanes"][0]["steps"]] == known[
        "two-person-interview"
    ]["lanes"][0]["tools"]
    kept = tmp_path / "own.json"
    assert main(["templates", "--of", str(job), "-o", str(kept)]) == 0
    each = tmp_path / "each.pulizia"
    assert main(["from-template", str(kept), "--each", str(a), str(b), "-o", str(each)]) == 0
    assert [p.name for p in load_project(each).programmes] == ["one", "two"]
    capsys.readouterr()
    for words, said in (
        (["from-template", "nothing", "--each", str(a)], "no template nothing"),
        (["from-template", "audio-guide"], "Give recordings"),
        (["from-template", "audio-guide", "--lane", "Tuba", str(a)], "no lane Tuba"),
        (["from-template", "audio-guide", "--each", str(a)], "is there already"),
    ):
        assert main([*words, "-o", str(each if "already" in said else tmp_path / "new.pulizia")]) != 0
        told = capsys.readouterr().err
        assert said in told
        assert "Traceback" not in told

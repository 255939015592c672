# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists: what goes out comes back to the sample, what others write is read, what a list cannot say is told."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import aaf2
import numpy as np
import opentimelineio as otio
import pytest
import soundfile as sf

from pulizia.audio.markers import Marker
from pulizia.audio.timeline import Edge
from pulizia.cli.main import main
from pulizia.interchange.edit_list import EditListError
from pulizia.interchange.export import list_of, losses, write_list
from pulizia.interchange.read import read_edit_list, says_rate
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording
from pulizia.score.steps import make_step

RATE = 48_000
NTSC, FILM = Fraction(30000, 1001), Fraction(24000, 1001)
KINDS = ("otio", "edl", "xml", "csv", "aaf")


@pytest.fixture
def media(tmp_path: Path) -> Path:
    """A folder with two mono recordings and a poly file."""
    folder = tmp_path / "media"
    folder.mkdir()
    rng = np.random.default_rng(1)
    for name, seconds, channels in (("anna", 10, 1), ("bert", 8, 1), ("poly", 12, 4)):
        sf.write(folder / f"{name}.wav", rng.normal(0, 0.05, (seconds * RATE, channels)), RATE, subtype="PCM_24")
    return folder


@pytest.fixture
def project(media: Path, tmp_path: Path) -> Path:
    """Two lanes with fades of every law, a cross-fade, a gain line, channels, a step and a marker, nothing on whole frames."""
    made = {n: Recording.of_media(open_media(media / f"{n}.wav")) for n in ("anna", "bert", "poly")}

    def clip(name: str, start: int, inner: int, frames: int, **more: object) -> Clip:
        return Clip(recording_id=made[name].id, start=start, inner=inner, frames=frames, name=name, **more)

    voice = Lane(name="Voice").with_clips([
        clip("anna", 0, 1001, 96_003, fade_in=Edge(480, "power"), gain_db=-3.0),
        clip("bert", 95_000, 5000, 80_007, fade_in=Edge(1003, "gain")),
        clip("anna", 200_000, 200_001, 50_000, gain_line=((0, 0.0), (20_000, -6.0), (50_000, 0.0)), fade_out=Edge(2400, "power"), note="again"),
    ])  # fmt: skip
    poly = Lane(
        name="Poly",
        kind="alternate",
        group="Set",
        height=0.5,
        steps=(make_step("level", {"way": "gain", "gain_db": -2.0}),),
    ).with_clips([clip("poly", 24_000, 0, 48_000, channel=2), clip("poly", 100_000, 99_999, 48_000, channel=3)])
    programme = Programme(
        name="Chapter 1",
        rate=RATE,
        lanes=(voice, poly),
        markers=(Marker(48_001, "Two"), Marker(96_002, "Line", 24_001, "too soft", "again", "7", "Anna")),
        start_frame=10 * 3600 * 25,
    )
    path = tmp_path / "museum.pulizia"
    save_project(Project(recordings=tuple(made.values())).with_programme(programme), path)
    return path


MARKERS_THEN = {  # what is left of them where a kind carries less; it says so
    "edl": (Marker(48_000, "Two"), Marker(96_000, "Line")),
    "aaf": (Marker(48_001, "Two"), Marker(96_002, "Line")),
    "xml": (Marker(48_000, "Two"), Marker(96_000, "Line", 24_960, "too soft")),
    "csv": (Marker(48_001, "Two"), Marker(96_002, "Line", 24_001, "too soft")),
}


def placed(path: Path) -> list[tuple[object, ...]]:
    """What the clips of a project's programme are, whichever identities they have."""
    project = load_project(path)
    (programme,) = project.programmes
    names = {r.id: r.name for r in project.recordings}
    return [
        (
            names[c.recording_id],
            c.start,
            c.inner,
            c.frames,
            c.channel,
            round(c.gain_db, 3),
            c.fade_in,
            c.fade_out.frames,
            c.enabled,
        )
        for lane in programme.lanes
        for c in lane.clips
    ]


@pytest.mark.parametrize("kind", KINDS)
def test_our_own_lists_come_back_to_the_sample(kind: str, project: Path, media: Path, tmp_path: Path, capsys) -> None:
    out, back = tmp_path / f"list.{kind}", tmp_path / "back.pulizia"
    assert main(["export-list", str(project), "--programme", "Chapter 1", "-o", str(out)]) == 0
    told = capsys.readouterr().out
    assert ("Steps of lanes are not carried." in told) == (kind != "otio")
    assert main(["assemble", str(out), "--media", str(media), "-o", str(back)]) == 0
    expected = placed(project)
    if kind == "aaf":  # a dissolve says nothing of its law
        expected[1] = (*expected[1][:6], Edge(1003), *expected[1][7:])
        assert "The law of cross-fades is not carried." in told
    assert placed(back) == expected
    was, now = (load_project(p).programmes[0] for p in (project, back))
    assert now.markers == MARKERS_THEN.get(kind, was.markers)
    assert ("The kind, scene and person of notes are not carried" in told) == (kind != "otio")
    assert ("The lengths of markers" in told) == (kind in ("edl", "aaf"))
    assert (now.start_frame, now.picture_rate, now.drop_frame) == (was.start_frame, was.picture_rate, was.drop_frame)
    assert now.received.content == out.read_bytes()  # word for word
    assert now.received.kind == kind
    if kind in ("otio", "xml", "aaf"):
        line = now.lanes[0].clips[2].gain_line
        assert [round(db, 2) for _, db in line] == [0.0, -6.0, 0.0]
        assert line[1][0] == pytest.approx(20_000, abs=RATE / 25)
    if kind == "otio":
        assert (now.lanes[1].kind, now.lanes[1].group, now.lanes[1].height) == ("alternate", "Set", 0.5)
        assert [s.tool_id for s in now.lanes[1].steps] == ["level"]
        assert now.lanes[0].clips[2].note == "again"


@pytest.mark.parametrize("kind", ["edl", "csv"])
@pytest.mark.parametrize("rate", [Fraction(24), FILM, NTSC])
def test_our_own_lists_say_the_picture_rate_that_their_kind_cannot(
    kind: str, rate: Fraction, project: Path, media: Path, tmp_path: Path
) -> None:
    saved = load_project(project)
    programme = replace(saved.programmes[0], picture_rate=rate, start_frame=86_400)
    save_project(saved.with_programme(programme), project)
    out, back = tmp_path / f"list.{kind}", tmp_path / "back.pulizia"
    assert main(["export-list", str(project), "--programme", "Chapter 1", "-o", str(out)]) == 0
    assert says_rate(out)
    assert main(["assemble", str(out), "--media", str(media), "-o", str(back)]) == 0
    assert [c[:5] for c in placed(back)] == [c[:5] for c in placed(project)]
    now = load_project(back).programmes[0]
    assert (now.picture_rate, now.start_frame) == (rate, 86_400)
    out.write_text(re.sub("PULIZIA picture.*", "", out.read_text()))
    assert not says_rate(out)


@pytest.mark.parametrize("kind", KINDS)
def test_a_clip_that_begins_before_its_recording_comes_back_and_asks_others_for_nothing_before_it(
    kind: str, media: Path, tmp_path: Path, capsys
) -> None:
    anna = Recording.of_media(open_media(media / "anna.wav"))
    row = [
        Clip(recording_id=anna.id, start=0, inner=50_000, frames=60_000, name="anna"),
        Clip(recording_id=anna.id, start=59_000, inner=-2584, frames=100_000, name="anna"),
    ]
    programme = Programme(name="Chapter 1", rate=RATE, channels=1, lanes=(Lane(name="Voice").with_clips(row),))
    path, out, back = tmp_path / "p.pulizia", tmp_path / f"list.{kind}", tmp_path / "back.pulizia"
    save_project(Project(recordings=(anna,)).with_programme(programme), path)
    assert main(["export-list", str(path), "--programme", "Chapter 1", "-o", str(out)]) == 0
    assert main(["assemble", str(out), "--media", str(media), "-o", str(back)]) == 0
    assert [c[2:5] for c in placed(back)] == [c[2:5] for c in placed(path)]
    assert "2 events written" in capsys.readouterr().out
    off = programme.with_changed(row[0].id, lambda c: replace(c, enabled=False))
    save_project(Project(recordings=(anna,)).with_programme(off), path)
    assert main(["export-list", str(path), "--programme", "Chapter 1", "-o", str(tmp_path / f"off.{kind}")]) == 0
    assert ("1 event written" in capsys.readouterr().out) == (kind in ("edl", "aaf"))
    if kind == "edl":
        second = next(line for line in out.read_text().splitlines() if line.startswith("002"))
        assert second.split()[4:7:2] == ["00:00:00:00", "00:00:01:08"]


def test_the_reference_library_reads_our_timeline_as_it_is(project: Path, tmp_path: Path) -> None:
    out = tmp_path / "list.otio"
    main(["export-list", str(project), "--programme", "Chapter 1", "-o", str(out)])
    timeline = otio.adapters.read_from_file(str(out))
    voice = timeline.tracks[0]
    clips = [(c.name, c) for c in voice.find_clips()]
    assert [name for name, _ in clips] == ["anna", "bert", "anna"]
    # the second one lies 1003 samples under the first; the cut of the cross-fade is at its end
    assert clips[1][1].range_in_parent().start_time.value == 96_003
    assert clips[1][1].source_range.start_time.value == 5000 + 1003
    transitions = [t for t in voice if isinstance(t, otio.schema.Transition)]
    assert [(t.in_offset.value, t.out_offset.value) for t in transitions] == [(0, 480), (1003, 0), (2400, 0)]
    assert timeline.global_start_time.to_timecode() == "10:00:00:00"


def test_the_adapters_read_our_edl_xml_and_aaf_where_they_can(project: Path, tmp_path: Path) -> None:
    for kind in ("xml", "aaf"):
        main(["export-list", str(project), "--programme", "Chapter 1", "-o", str(tmp_path / f"list.{kind}")])
    found = otio.adapters.read_from_file(str(tmp_path / "list.xml"), adapter_name="fcp_xml")
    clips = list(found.find_clips())
    assert [c.name for c in clips] == ["anna", "bert", "anna", "poly", "poly"]
    assert clips[2].range_in_parent().start_time.to_seconds() == pytest.approx(200_000 / RATE, abs=0.05)
    assert "anna.wav" in clips[0].media_reference.target_url
    found = otio.adapters.read_from_file(str(tmp_path / "list.aaf"), adapter_name="AAF")
    clips = [c for c in found.find_clips() if c.range_in_parent().duration.rate == RATE]
    assert [round(c.range_in_parent().duration.value) for c in clips][2:] == [50_000, 48_000, 48_000]
    with aaf2.open(str(tmp_path / "list.aaf")) as file:
        (mob,) = file.content.toplevel()
        assert [slot.name for slot in mob.slots][:3] == ["Timecode", "Voice", "Poly"]
        first = next(iter(mob.slot_at(2).segment.components))
        assert float(next(iter(first.parameters)).value) == pytest.approx(10 ** (-3 / 20), abs=1e-6)
    # the cut list of one lane; a list of frames needs whole ones
    single = load_project(project)
    programme = replace(single.programmes[0], lanes=(single.programmes[0].lanes[1],))
    save_project(replace(single, programmes=(programme,)), project)
    out = tmp_path / "list.edl"
    main(["export-list", str(project), "--programme", "Chapter 1", "-o", str(out)])
    text = out.read_text().replace("  A     C ", "  V     C ")  # the adapter reads picture tracks alone
    found = otio.adapters.read_from_string(text, "cmx_3600", rate=25)
    assert [c.name for c in found.find_clips()] == ["poly", "poly"]
    assert [c.source_range.duration.value for c in found.find_clips()] == [26, 25]  # 12.5 to 37.5 frames


def aaf_of_others(path: Path, *, embedded: Path | None = None) -> None:
    """29.97 drop-frame, a clip with fades and gain, a dissolve, a marker; the sound linked or inside."""
    with aaf2.open(str(path), "w") as file:
        create, dictionary = file.create, file.dictionary
        auid = aaf2.auid.AUID
        dictionary.register_def(
            create.ParameterDef(
                auid("e4962322-2267-11d3-8a4c-0050040ef7d2"), "Amplitude", "", dictionary.lookup_typedef("Rational")
            )
        )
        for identity, name, inputs in (
            ("9d2ea894-0968-11d3-8a38-0050040ef7d2", "Audio Gain", 1),
            ("0c3bea41-fc05-11d2-8a29-0050040ef7d2", "Mono Audio Dissolve", 2),
        ):
            made = create.OperationDef(auid(identity), name, "")
            made.media_kind = "sound"
            made["NumberInputs"].value = inputs
            dictionary.register_def(made)
        tape = create.SourceMob()
        _, code = tape.create_tape_slots("REEL7", RATE, 30, drop_frame=True, media_kind="sound")
        code.segment.start = 107_892  # 01:00:00;00
        file.content.mobs.append(tape)
        source = create.SourceMob("anna.wav")
        file.content.mobs.append(source)
        begins = tape.create_source_clip(1, 0, 10 * RATE)
        if embedded is not None:
            source.import_audio_essence(str(embedded), RATE, tape=begins)
        else:
            descriptor = create.PCMDescriptor()
            for field, value in (
                ("Channels", 1),
                ("BlockAlign", 3),
                ("SampleRate", RATE),
                ("AverageBPS", 3 * RATE),
                ("QuantizationBits", 24),
                ("AudioSamplingRate", RATE),
            ):
                descriptor[field].value = value
            descriptor.length = 10 * RATE
            locator = create.NetworkLocator()
            locator["URLString"].value = "file:///C:/sound/anna.wav"
            descriptor["Locator"].append(locator)
            source.descriptor = descriptor
            source.create_empty_slot(edit_rate=RATE, media_kind="sound", slot_id=1).segment = begins
        master = create.MasterMob("anna")
        file.content.mobs.append(master)
        master.create_timeline_slot(RATE).segment = source.create_source_clip(1, 0, 10 * RATE)
        comp = create.CompositionMob("Reel 1")
        comp.usage = "Usage_TopLevel"
        file.content.mobs.append(comp)
        time = comp.create_timeline_slot("30000/1001")
        time.segment = create.Timecode(30, drop=True)
        time.segment.start = 107_892
        track = comp.create_sound_slot(RATE)
        track.name = "Dialogue 1"
        clip = master.create_source_clip(1, 4800, 96_000)
        clip["FadeInLength"].value = 9600
        clip["FadeOutLength"].value = 5760
        group = create.OperationGroup("Audio Gain", length=96_000, media_kind="sound")
        group.segments.append(clip)
        group.parameters.append(create.ConstantValue("Amplitude", aaf2.rational.AAFRational(1, 2)))
        track.segment.components.append(group)
        track.segment.components.append(create.Filler("sound", 24_000))
        track.segment.components.append(master.create_source_clip(1, 200_000, 48_000))
        cross = create.Transition("sound", 4800)
        cross["OperationGroup"].value = create.OperationGroup("Mono Audio Dissolve", length=4800, media_kind="sound")
        cross.cutpoint = 2400
        track.segment.components.append(cross)
        track.segment.components.append(master.create_source_clip(1, 300_000, 48_000))


def test_an_aaf_of_others_keeps_fades_gain_dissolves_names_tape_time_and_the_drop_flag(tmp_path: Path) -> None:
    aaf_of_others(tmp_path / "reel.aaf")
    found, _ = read_edit_list(tmp_path / "reel.aaf")
    assert (found.name, found.picture_rate, found.drop, found.start * found.picture_rate) == (
        "Reel 1",
        NTSC,
        True,
        107_892,
    )
    (track,) = found.tracks
    assert track.name == "Dialogue 1"
    first, second, third = track.events
    assert (first.fade_in.seconds * RATE, first.fade_out.seconds * RATE) == (9600, 5760)
    assert first.gain_db == pytest.approx(-6.02, abs=0.01)
    assert (first.media.reel, first.media.path) == ("REEL7", "/C:/sound/anna.wav")
    assert first.source == Fraction(107_892) / NTSC + Fraction(4800, RATE)  # tape time
    assert (second.record * RATE, second.stop * RATE) == (120_000, 168_000)
    assert (third.record * RATE, third.fade_in.seconds * RATE) == (
        163_200,
        4800,
    )  # it lies under the end of the one before


def test_embedded_sound_is_written_beside_the_project_and_used(media: Path, tmp_path: Path, capsys) -> None:
    inside = tmp_path / "inside.wav"
    sound, _ = sf.read(media / "anna.wav", dtype="int16")
    sf.write(inside, sound, RATE, subtype="PCM_16")
    aaf_of_others(tmp_path / "reel.aaf", embedded=inside)
    assert main(["assemble", str(tmp_path / "reel.aaf"), "-o", str(tmp_path / "reel.pulizia"), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["missing"] == []
    (recording,) = load_project(tmp_path / "reel.pulizia").recordings
    assert np.array_equal(sf.read(recording.path, dtype="int16")[0], sound)


@pytest.mark.parametrize(("name", "content", "words"), [
    ("a.edl", b"no list at all", "holds no events"), ("a.xml", b"<xmeml><sequence>", "damaged"),
    ("a.xml", b"<html/>", "another kind"), ("a.otio", b"{}", "no OpenTimelineIO|no timeline"), ("a.aaf", b"nothing", "damaged or no AAF"),
    ("a.csv", b"one,two\n1,2\n", "no column file"), ("a.csv", b'file,record_in\n"' + b"x" * 200_000, "no table of events: field larger"),
    ("a.csv", b"file,record_in,record_out,source_in\rx.wav,0,1\r2,0\n", "row 2"), ("a.csv", b"file,record_in,record_out,source_in\nx.wav,5,3,0\n", "row 2"),
    ("a.txt", b"x", "is no edit list"), ("a.edl", b"\xff\xfe\x00\x00\x01", "cannot be read as text|holds no events"),
    ("a.xml", b'<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;&a;">]><xmeml><sequence><name>&b;</name></sequence></xmeml>', "entities"),
])  # fmt: skip
def test_lists_that_cannot_be_read_are_refused_in_a_sentence(
    name: str, content: bytes, words: str, tmp_path: Path, capsys
) -> None:
    path = tmp_path / name
    path.write_bytes(content)
    assert main(["assemble", str(path), "--media", str(tmp_path), "-o", str(tmp_path / "out.pulizia")]) == 1
    import re

    err = capsys.readouterr().err
    assert re.search(words, err), err
    assert "Traceback" not in err
    assert not (tmp_path / "out.pulizia").exists()


def test_a_damaged_aaf_of_real_tables_never_ends_in_a_traceback(tmp_path: Path) -> None:
    aaf_of_others(tmp_path / "good.aaf")
    data = bytearray((tmp_path / "good.aaf").read_bytes())
    rng = np.random.default_rng(5)
    for n in range(12):
        broken = data.copy()
        for at in rng.integers(0, len(data), 400):
            broken[int(at)] = int(rng.integers(256))
        path = tmp_path / f"b{n}.aaf"
        path.write_bytes(bytes(broken))
        try:
            read_edit_list(path)
        except EditListError:
            continue


def test_what_the_library_tells_of_damage_stays_out_of_what_we_print(tmp_path: Path, caplog) -> None:
    aaf_of_others(tmp_path / "good.aaf")
    data = bytearray((tmp_path / "good.aaf").read_bytes())
    data[44] += 3  # how many sectors hold the table of sectors (MS-CFB 2.2)
    (tmp_path / "other.aaf").write_bytes(bytes(data))
    found, _ = read_edit_list(tmp_path / "other.aaf")
    assert found.tracks
    told = {record.name for record in caplog.records if record.levelname == "WARNING"}
    assert told == {"aaf2"}  # the root of all logs prints what it is told


def test_a_rendered_list_names_files_with_handles(project: Path, tmp_path: Path, capsys) -> None:
    out = tmp_path / "back.otio"
    code = main(
        ["export-list", str(project), "--programme", "Chapter 1", "-o", str(out), "--rendered", "--handles", "0.02"]
    )
    assert code == 0
    files = sorted((tmp_path / "back-clips").iterdir())
    assert len(files) == 5
    again = tmp_path / "again.pulizia"
    assert main(["assemble", str(out), "--media", str(tmp_path / "back-clips"), "-o", str(again)]) == 0
    (programme,) = load_project(again).programmes
    assert [c.start for c in programme.lanes[0].clips] == [0, 95_000, 200_000]
    assert [c.inner for c in programme.lanes[0].clips] == [960, 960, 960]
    capsys.readouterr()


def test_what_a_kind_cannot_carry_is_said_before_it_is_written(project: Path) -> None:
    loaded = load_project(project)
    (programme,), recordings = loaded.programmes, loaded.recordings
    assert losses(programme, "otio", recordings, rendered=False) == ()
    assert any("Gain lines" in s for s in losses(programme, "edl", recordings, rendered=False))
    assert not any("Gain lines" in s for s in losses(programme, "aaf", recordings, rendered=False))
    wide = lambda p, kind, **how: any("several channels" in s for s in losses(p, kind, recordings, **how))  # noqa: E731
    assert not wide(programme, "edl", rendered=False)
    poly = next(c for lane in programme.lanes for c in lane.clips if c.name == "poly")
    whole = programme.with_changed(poly.id, lambda c: replace(c, channel=None))
    assert wide(whole, "edl", rendered=False)
    assert not wide(whole, "aaf", rendered=False)
    assert wide(programme, "edl", rendered=True)
    assert not wide(replace(programme, channels=1), "edl", rendered=True)


@pytest.mark.parametrize("kind", ["edl", "aaf", "xml", "csv"])
def test_clips_of_another_clock_begin_in_sync_for_others_and_repairs_that_are_left_behind_are_told(
    kind: str, project: Path, media: Path, tmp_path: Path, capsys
) -> None:
    loaded = load_project(project)
    (programme,) = loaded.programmes
    anna = next(r for r in loaded.recordings if r.name == "anna")
    late = programme.lanes[0].clips[2]  # 200 ppm, 4.2 s in: 40 frames of the recording
    drifting = programme.with_changed(late.id, lambda c: replace(c, drift_ppm=200.0, shift=0.5))
    save_project(
        replace(loaded.with_programme(drifting)).with_recording(anna.with_step(make_step("hum"))),
        tmp_path / "drift.pulizia",
    )
    out, back = tmp_path / f"list.{kind}", tmp_path / "back.pulizia"
    assert main(["export-list", str(tmp_path / "drift.pulizia"), "--programme", "Chapter 1", "-o", str(out)]) == 0
    said = capsys.readouterr().out
    assert "The repairs of 1 recording are not carried: the list plays its file as it came." in said
    assert "Clocks of recorders are corrected where a clip begins and not inside it: up to 0.2 ms at its end." in said
    assert main(["assemble", str(out), "--media", str(media), "-o", str(back)]) == 0
    (again,) = load_project(back).programmes
    heard = round(late.inner * (1 + 200e-6) + 0.5)
    assert heard - late.inner == 41
    assert again.lanes[0].clips[2].inner == heard
    (whole,) = load_project(tmp_path / "drift.pulizia").programmes
    assert not any("repairs" in s or "Clocks" in s for s in losses(whole, kind, loaded.recordings, rendered=True))


@pytest.mark.slow
def test_five_thousand_events_with_media_in_twenty_folders_open_in_time(tmp_path: Path) -> None:
    import time

    for n in range(20):
        folder = tmp_path / "m" / f"f{n:02d}"
        folder.mkdir(parents=True)
        sf.write(folder / f"take{n}.wav", np.zeros(RATE), RATE, subtype="PCM_16")
    rows = ["FCM: NON-DROP FRAME"]
    for n in range(5000):
        h, rest = divmod(n * 25, 90_000)
        m, s = divmod(rest // 25, 60)
        rows.append(
            f"{n + 1:04d}  take{n % 20}  A  C  00:00:00:00 00:00:00:20 {h + 1:02d}:{m:02d}:{s:02d}:00 {h + 1:02d}:{m:02d}:{s:02d}:20"
        )
    (tmp_path / "long.edl").write_text("\n".join(rows))
    began = time.perf_counter()
    assert (
        main(
            [
                "assemble",
                str(tmp_path / "long.edl"),
                "--media",
                str(tmp_path / "m"),
                "-o",
                str(tmp_path / "long.pulizia"),
            ]
        )
        == 0
    )
    assert time.perf_counter() - began < 20  # about a second; the limit only catches what grows with the square
    assert sum(len(lane.clips) for lane in load_project(tmp_path / "long.pulizia").programmes[0].lanes) == 5000


def test_a_list_of_the_session_is_written_and_read_by_the_library_functions(project: Path, tmp_path: Path) -> None:
    found = load_project(project)
    made = list_of(found.programmes[0], {r.id: r for r in found.recordings}, lambda _r: None)
    write_list(made, tmp_path / "x.csv")
    again, _ = read_edit_list(tmp_path / "x.csv")
    assert again.count == made.count
    with pytest.raises(EditListError, match="is no edit list"):
        write_list(made, tmp_path / "x.docx")


def test_project_files_of_the_version_before_are_opened(project: Path) -> None:
    content = json.loads(project.read_text())
    content["version"] = 6
    for row in content["programmes"]:
        del row["received"]
    project.write_text(json.dumps(content))
    assert load_project(project).programmes[0].received is None

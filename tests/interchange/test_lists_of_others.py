# SPDX-License-Identifier: GPL-3.0-or-later
"""Lists as others write them: what the standards and the usual programs say is read as it is meant."""

from __future__ import annotations

from fractions import Fraction

import pytest

from pulizia.interchange.edit_list import EditListError, rate_named
from pulizia.interchange.edl import channels_of, read_edl
from pulizia.interchange.xml import read_xml

NTSC, FILM = Fraction(30000, 1001), Fraction(24000, 1001)

EDL = """TITLE: SCENE 4
FCM: NON-DROP FRAME

001  REEL1    AA/V  C        01:00:10:00 01:00:14:00 10:00:00:00 10:00:04:00
* FROM CLIP NAME: ANNA 1
002  REEL2    A2    C        02:00:00:00 02:00:02:00 10:00:04:00 10:00:06:00
AUD  3    4
* SOURCE FILE: poly.wav
003  REEL1    A     C        01:00:20:00 01:00:20:00 10:00:06:00 10:00:06:00
003  REEL2    A     D    012 02:00:10:00 02:00:12:00 10:00:06:00 10:00:08:00
* LOC: 10:00:05:00 RED     pick up the line
004  BL       A     D    025 00:00:00:00 00:00:01:00 10:00:08:00 10:00:09:00
005  REEL1    V     C        01:00:10:00 01:00:14:00 10:00:09:00 10:00:13:00
006  REEL1    NONE  C        01:00:10:00 01:00:14:00 10:00:09:00 10:00:13:00
M2   REEL1         037.5                01:00:10:00
007  REEL1    A     C        01:00:30:00 01:00:31:00 10:00:13:00 10:00:14:00
"""


def test_an_edl_of_others_is_read_with_its_channels_dissolves_and_markers() -> None:
    found = read_edl(EDL, "scene", Fraction(25))
    assert (found.name, found.start, found.drop) == ("SCENE 4", 36_000, False)
    assert [(t.name, len(t.events)) for t in found.tracks] == [("A1", 3), ("A2", 2), ("A3", 1), ("A4", 1)]
    first, second, last = found.tracks[0].events
    assert (first.record, first.seconds, first.source, first.name) == (0, 4, 3610, "ANNA 1")
    # the dissolve of twelve frames; into black it is a fade out of a second, under which the sound goes on
    assert (second.record, second.fade_in.seconds) == (6, Fraction(12, 25))
    assert (second.seconds, second.fade_out.seconds) == (3, 1)
    assert last.record == 13
    assert [(m.at, m.name) for m in found.markers] == [(5, "pick up the line")]
    assert found.tracks[1].events[1].media.name == "poly.wav"
    words = " ".join(found.remarks)
    assert "2 events have no sound" in words
    assert "37.5" in words or "usual speed" in words


@pytest.mark.parametrize(("code", "channels"), [("V", set()), ("A", {0}), ("A2", {1}), ("AA", {0, 1}), ("AA/V", {0, 1}), ("B", {0}), ("A3", {2}), ("NONE", set()), ("A2/V", {1})])  # fmt: skip
def test_channel_codes(code: str, channels: set[int]) -> None:
    assert channels_of(code) == channels


def test_fcm_rules_how_timecode_is_counted_whatever_the_separators() -> None:
    # the record side crosses a minute: with drop-frame counting it is 1.001 x 1798 frames long, not 1800
    event = "001  AX  A  C  00:00:00:00 00:00:59:28 00:00:30:00 00:01:30:00\n"
    drop = read_edl("FCM: DROP FRAME\n" + event, "x", NTSC)
    plain = read_edl("FCM: NON-DROP FRAME\n" + event, "x", NTSC)
    assert drop.tracks[0].events[0].seconds == 1798 / NTSC
    assert plain.tracks[0].events[0].seconds == 1800 / NTSC
    semicolons = event.replace(":", ";", 99).replace("00;00;59;28", "00:00:59;28")
    told = read_edl("FCM: NON-DROP FRAME\n" + semicolons, "x", NTSC)
    assert told.drop is False
    assert any("FCM line" in remark for remark in told.remarks)
    assert read_edl(event.replace("00:01:30:00", "00:01:30;00"), "x", NTSC).drop is False  # the first time rules


@pytest.mark.parametrize(("name", "rate"), [("23.976", FILM), ("23.98", FILM), ("29.97", NTSC), ("29.97df", NTSC), ("25", 25), ("59.94", Fraction(60000, 1001)), ("30000/1001", NTSC)])  # fmt: skip
def test_rates_have_their_usual_names_and_are_exact(name: str, rate: Fraction) -> None:
    assert rate_named(name)[0] == rate
    assert rate_named(name)[1] == name.endswith("df")
    hour = read_edl(
        f"001 AX A C {'00:00:00:00'} {'01:00:00:00'} {'00:00:00:00'} {'01:00:00:00'}", "x", rate_named(name)[0]
    )
    assert hour.tracks[0].events[0].seconds == Fraction(3600 * round(rate)) / rate
    with pytest.raises(EditListError, match="no picture rate"):
        rate_named("26")


XML = """<?xml version="1.0" encoding="UTF-8"?><!DOCTYPE xmeml>
<xmeml version="5"><sequence id="s"><name>Scene</name><duration>300</duration>
<rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate>
<timecode><rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate><frame>86400</frame><displayformat>NDF</displayformat></timecode>
<media><audio>
<track><name>Dialogue</name>
<clipitem id="c1"><name>anna</name><enabled>TRUE</enabled><rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate><start>0</start><end>-1</end><in>24</in><out>124</out>
<file id="f1"><name>anna.wav</name><pathurl>file://localhost/elsewhere/sound%20files/anna.wav</pathurl><rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate><duration>240</duration>
<timecode><rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate><frame>864000</frame></timecode><media><audio><channelcount>1</channelcount></audio></media></file>
<sourcetrack><mediatype>audio</mediatype><trackindex>1</trackindex></sourcetrack>
<filter><effect><effectid>audiolevels</effectid><parameter><parameterid>level</parameterid><value>0.5</value></parameter></effect></filter></clipitem>
<transitionitem><start>92</start><end>100</end><alignment>center</alignment><effect><name>Cross Fade (0dB)</name><effectid>KGAudioTransCrossFade0dB</effectid></effect></transitionitem>
<clipitem id="c2"><name>anna again</name><enabled>FALSE</enabled><rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate><start>-1</start><end>150</end><in>130</in><out>188</out><file id="f1"/>
<subframeoffset>50</subframeoffset></clipitem></track>
<track><clipitem id="c3"><name>poly</name><start>12</start><end>36</end><in>0</in><out>24</out><rate><timebase>24</timebase><ntsc>TRUE</ntsc></rate>
<file id="f2"><name>poly.wav</name></file><sourcetrack><trackindex>3</trackindex></sourcetrack></clipitem></track>
</audio></media><marker><name>look</name><comment>twice</comment><in>48</in><out>-1</out></marker></sequence></xmeml>"""


def test_xml_of_others_keeps_rates_levels_channels_switches_and_laws() -> None:
    found = read_xml(XML.encode(), "scene")
    assert (found.picture_rate, found.start) == (FILM, Fraction(86_400) / FILM)
    first, second = found.tracks[0].events
    assert (first.record, first.stop * FILM, first.source * FILM) == (0, 100, 24)
    assert first.gain_db == pytest.approx(-6.02, abs=0.01)
    assert first.media.start == Fraction(864_000) / FILM
    assert first.media.path == "/elsewhere/sound files/anna.wav"
    assert (second.record * FILM, second.fade_in.seconds * FILM, second.fade_in.law) == (92, 8, "gain")
    assert second.source * FILM == 130 + Fraction(1, 2)
    assert not second.enabled
    assert second.media == first.media  # the file is named once and meant twice
    assert found.tracks[1].events[0].channel == 2
    assert [(m.at * FILM, m.name, m.note) for m in found.markers] == [(48, "look", "twice")]

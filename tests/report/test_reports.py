# SPDX-License-Identifier: GPL-3.0-or-later
"""What reports and the manual say, and that their three forms say the same."""

from __future__ import annotations

import csv
import json
import re
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.delivery.deliver import Delivered, deliver
from pulizia.delivery.targets import Target, target_of
from pulizia.report.loudness_report import (
    checksum,
    report_content,
    report_csv,
    report_html,
    report_json,
)
from pulizia.report.manual import pages, sections
from pulizia.settings.declare import declared
from pulizia.tools.base import FAMILIES
from pulizia.tools.registry import ALL

RATE = 48_000


@pytest.fixture
def delivered(tmp_path: Path) -> Delivered:
    return deliver(ArraySource(voice_in_noise(8.0), RATE), target_of("ebu-r128"), tmp_path / "a & b.wav")


class Page(HTMLParser):
    """Tags in order, and the text."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.words: list[str] = []
        self.faults: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.faults += [f"{tag} asks for {v}" for k, v in attrs if k in ("src", "href") and v]
        if tag not in ("meta", "br", "line", "polyline"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag in ("line", "polyline"):
            return
        if not self.open or self.open.pop() != tag:
            self.faults.append(f"{tag} is closed out of order")

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def test_the_page_is_whole_stands_alone_and_escapes_names(delivered: Delivered) -> None:
    text = report_html(delivered, ["Noise: <12> dB & more"])
    page = Page(text)
    assert page.faults == []
    assert page.open == []
    words = " ".join(page.words)
    assert "a & b.wav" in words
    assert "Noise: <12> dB & more" in words
    assert "a &amp; b.wav" in text
    assert checksum(delivered.path) in words
    assert "whole programme, both gates" in words


def test_json_page_and_log_tell_the_same_figures(delivered: Delivered) -> None:
    content = json.loads(report_json(delivered, ["one"]))
    assert content == json.loads(json.dumps(report_content(delivered, ["one"]))) | {"made": content["made"]}
    integrated = content["written_file"]["integrated_lufs"]
    assert integrated == pytest.approx(-23.0, abs=0.06)
    rows = list(csv.reader(report_csv(delivered).splitlines()))
    assert float(next(r for r in rows if r and r[0] == "Integrated")[2]) == pytest.approx(integrated, abs=0.006)
    shown = f"{integrated:.1f}".replace("-", "\u2212")
    assert shown in report_html(delivered)
    assert content["passes"] is True
    assert {v["state"] for v in content["verdicts"]} == {"within"}


def test_a_report_of_speech_alone_says_so(tmp_path: Path) -> None:
    target = Target(
        id="t", title="Speech", integrated_lufs=-23, tolerance_lu=1, true_peak_dbtp=-1, gate="dialogue", source="own"
    )
    done = deliver(ArraySource(voice_in_noise(8.0), RATE), target, tmp_path / "s.wav")
    page = report_html(done)
    assert "speech only, by the program" in page
    assert "both gates" not in page
    assert re.search(r"Speech only, \d+ % of the programme", page)


def test_what_fails_is_told_as_failing(tmp_path: Path) -> None:
    peaky = np.full((1, 6 * RATE), 0.0, np.float32)
    peaky[0] = 1e-3 * np.sin(2 * np.pi * 500 * np.arange(6 * RATE) / RATE)
    peaky[0, RATE::RATE] = 0.7
    done = deliver(ArraySource(peaky, RATE), target_of("online-14"), tmp_path / "p.wav", way="gain")
    content = report_content(done)
    assert content["passes"] is False
    assert content["true_peaks_over"]
    assert "Not within every limit" in report_html(done)
    assert "True peaks near the ceiling" in report_html(done)


def test_every_tool_and_setting_has_its_words_in_the_manual() -> None:
    made = pages()
    for tool in ALL:
        page = made[f"tool-{tool.id.replace('_', '-')}.md"]
        assert tool.summary in page
        assert f"`{tool.id}`" in page
        for name, declaration in declared(tool.settings).items():
            assert f"| **{declaration.label}** |" in page, name
            assert declaration.help.endswith(".")
        assert len(page.split("## How it works")[1].strip()) > 60
    index = made["README.md"]
    assert all(head in index for head in FAMILIES.values())
    assert index.count("tool-") == len(ALL)
    assert "Sonogram" in sections("bench")

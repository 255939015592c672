# SPDX-License-Identifier: GPL-3.0-or-later
"""Normalising: reading order, verdicts at the edges, plans that reach their target."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.delivery.deliver import check_output, deliver
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.normalise import NormalisedSource, State, plan, verdicts
from pulizia.delivery.targets import read_targets, shipped_targets, target_of
from pulizia.errors import DeliveryError
from pulizia.measure.loudness import measure
from pulizia.report.loudness_report import report_content, report_html
from pulizia.score.cache import ChunkCache

SOURCE = ArraySource(voice_in_noise(8.0, channels=2) * np.float32(0.5), 48_000)


def test_limited_sound_does_not_depend_on_how_it_is_read() -> None:
    whole = NormalisedSource(SOURCE, 18.0, -1.0, ChunkCache()).read(0, SOURCE.frames)
    other = NormalisedSource(SOURCE, 18.0, -1.0, ChunkCache())
    cuts = [0, 1, 70_000, 65_536 * 2 + 7, 300_000, SOURCE.frames]
    parts = {}
    for a, b in sorted(pairwise(cuts), key=lambda p: -p[0]):
        parts[a] = other.read(a, b)
    assert np.array_equal(np.concatenate([parts[a] for a in cuts[:-1]], axis=1), whole)
    balance = np.abs(whole).max(axis=1) / np.abs(SOURCE.read(0, SOURCE.frames)).max(axis=1)
    assert balance[0] == pytest.approx(balance[1], rel=0.2)


@pytest.mark.parametrize("target", shipped_targets(), ids=lambda t: t.id)
def test_every_shipped_target_is_met_by_its_plan(target) -> None:
    made = plan(SOURCE, target)
    assert made.predicted.integrated_lufs == pytest.approx(target.integrated_lufs, abs=0.03)
    assert made.predicted.true_peak_dbtp <= target.true_peak_dbtp
    assert target.source
    again = measure(made.result)
    if target.gate == "programme":  # else the integrated figure is that of speech
        assert again.integrated_lufs == made.predicted.integrated_lufs


def test_sound_already_at_the_target_is_not_limited_and_hardly_changed() -> None:
    target = target_of("ebu-r128")
    first = plan(SOURCE, target)
    again = plan(ArraySource(first.result.read(0, SOURCE.frames), 48_000), target)
    assert not again.limited
    assert again.gain_db == pytest.approx(0.0, abs=0.03)


def test_verdicts_count_from_the_edge_of_the_tolerance() -> None:
    target = target_of("ebu-r128-s1")
    measures = replace(measure(SOURCE), integrated_lufs=-21.3, true_peak_dbtp=-1.0, short_term_max_lufs=-17.3)
    rows = {v.name: v for v in verdicts(measures, target)}
    assert rows["Integrated"].words == "1.2 LU over"
    assert rows["True peak"].state is State.WITHIN
    assert rows["Highest short-term"].words == "0.7 LU over"
    quiet = {v.name: v for v in verdicts(replace(measures, integrated_lufs=-23.55), target)}
    assert quiet["Integrated"].words == "0.05 LU under"
    none = {v.name: v for v in verdicts(replace(measures, integrated_lufs=None), target)}
    assert none["Integrated"].state is State.MISSING


@pytest.mark.parametrize("samples", [np.zeros((1, 96_000)), np.full((1, 10), 0.1), np.full((1, 96_000), 1e-6)])
def test_programmes_without_loudness_are_refused_with_the_reason(samples: np.ndarray) -> None:
    with pytest.raises(DeliveryError, match="no measurable loudness"):
        plan(ArraySource(samples.astype(np.float32), 48_000), target_of("ebu-r128"))


def test_the_report_says_what_the_written_file_measures(tmp_path: Path) -> None:
    done = deliver(
        SOURCE, target_of("atsc-a85"), tmp_path / "<a & b>.flac", wanted=Deliverable(kind="flac", sample_format="int16")
    )
    content = report_content(done)
    assert content["written_file"]["integrated_lufs"] == done.verified.integrated_lufs
    assert content["passes"]
    html = report_html(done)
    assert "&lt;a &amp; b&gt;.flac" in html
    assert "LKFS" in html
    assert "<polyline" in html


def test_outputs_that_would_replace_something_are_refused(tmp_path: Path) -> None:
    source = tmp_path / "take.wav"
    source.write_bytes(b"x")
    link = tmp_path / "link.wav"
    link.symlink_to(source)
    for path in (source, link):
        with pytest.raises(DeliveryError, match="never written to"):
            check_output(path, inputs=[source], overwrite=True)
    other = tmp_path / "other.wav"
    other.write_bytes(b"y")
    with pytest.raises(DeliveryError, match="is there already"):
        check_output(other, inputs=[source], overwrite=False)
    check_output(other, inputs=[source], overwrite=True)


@pytest.mark.parametrize(("text", "sentence"), [
    ("[", "not readable as JSON"), ("{}", 'no list "targets"'), ('{"targets": [3]}', "not a table"),
    ('{"targets": [{"id": "a"}]}', "lacks title"), ('{"targets": [{"id": 5}]}', "wrong kind"),
    ('{"targets": [{"id": "a", "title": "A", "integrated_lufs": 5, "tolerance_lu": 1, "true_peak_dbtp": -1}]}', "must be between"),
])  # fmt: skip
def test_damaged_target_files_say_what_is_wrong(text: str, sentence: str) -> None:
    with pytest.raises(DeliveryError, match=sentence):
        read_targets(text, "own.json")

# SPDX-License-Identifier: GPL-3.0-or-later
"""What may be trusted: a killed program loses nothing, damaged files are one sentence, a tool is one module."""

from __future__ import annotations

import importlib.util
import json
import os
import random
import shutil
import struct
import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise

from pulizia.delivery.targets import read_targets
from pulizia.errors import PuliziaError
from pulizia.media.open import open_media
from pulizia.report.manual import tool_page
from pulizia.score.recipes import parse_recipe
from pulizia.settings.declare import Settings, number
from pulizia.tools import registry
from pulizia.tools.base import Tool
from pulizia.units import Unit

ROOT = Path(__file__).parents[1]


def test_every_source_file_names_its_licence() -> None:
    for top in ("src", "tests", "scripts", "benchmarks"):
        for path in (ROOT / top).rglob("*.py"):
            head = path.read_text(encoding="utf-8")[:200]
            assert "SPDX-License-Identifier: GPL-3.0-or-later" in head, path


def load_script(name: str):
    spec = importlib.util.spec_from_file_location(name, ROOT / "scripts" / f"{name}.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@pytest.mark.slow
def test_a_killed_program_loses_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PULIZIA_HOME", str(tmp_path / "home"))
    assert load_script("kill_rounds").rounds(3, tmp_path, seed=7) == []


@dataclass(frozen=True, slots=True, kw_only=True)
class TinySettings(Settings):
    """One setting."""

    gain_db: float = number(-6.0, unit=Unit.DB, low=-20.0, high=0.0, label="Gain", help="How far down.")


def tiny_process(block, settings, _analysis):
    return block.samples * np.float32(10 ** (settings.gain_db / 20))


def test_a_tool_is_one_module_and_one_line(
    capsys, monkeypatch: pytest.MonkeyPatch, wav: Callable[..., Path], tmp_path: Path, qtbot
) -> None:
    """Once registered it is in the panel, on the command line, in recipes and in the manual."""
    tool = Tool(
        id="tiny",
        title="Tiny",
        summary="A small one.",
        settings=TinySettings,
        order=99,
        process=tiny_process,
        caption=lambda s: f"{s.gain_db:g} dB",
    )
    monkeypatch.setattr(registry, "ALL", (*registry.ALL, tool))
    monkeypatch.setitem(registry._BY_ID, "tiny", tool)
    path = wav(voice_in_noise(2.0), "a.wav")
    recipe = tmp_path / "r.json"
    recipe.write_text(
        json.dumps(
            {
                "format": "pulizia-recipe",
                "version": 1,
                "name": "r",
                "steps": [{"tool": "tiny", "settings": {"gain_db": -20}}],
            }
        )
    )
    assert run(capsys, "repair", path, "--recipe", recipe, "-o", tmp_path / "b.wav")[0] == 0
    before, after = (open_media(p).source.read(0, 1000) for p in (path, tmp_path / "b.wav"))
    assert np.abs(after - before * 0.1).max() < 1e-6
    code, out, _ = run(capsys, "tools", "tiny")
    assert code == 0
    assert "gain_db" in out
    assert "| **Gain** | \u221220 to 0 dB | \u22126 |" in tool_page("tiny")
    from PySide6.QtCore import QEvent
    from PySide6.QtWidgets import QApplication

    from pulizia.desktop.sliders import SliderRow
    from pulizia.desktop.start import make_application, make_window

    make_application()
    window, poster = make_window(simulated=True)
    window.files.asks = False
    window.files.open_paths([path])
    qtbot.waitUntil(lambda: window.session.chain is not None, timeout=20_000)
    window.session.repairs.add_tool("tiny", on_selection=False)
    qtbot.waitUntil(lambda: window.bench.sheet.body is not None)
    assert [row._declared.label for row in window.bench.sheet.findChildren(SliderRow)] == ["Gain"]
    window.close()
    poster.close()
    window.session.document.start_new()  # nothing of the tool is left when the register is as before
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def mangled(content: bytes, rng: random.Random) -> bytes:
    """Some bytes changed, a stretch taken out or doubled."""
    made = bytearray(content)
    for _ in range(rng.randrange(1, 12)):
        at = rng.randrange(len(made))
        how = rng.randrange(4)
        if how == 0:
            made[at] = rng.randrange(256)
        elif how == 1:
            del made[at : at + rng.randrange(1, 40)]
        elif how == 2:
            made[at:at] = made[max(0, at - 20) : at]
        else:
            made[at : at + 4] = struct.pack("<I", rng.choice([0, 1, 0x7FFFFFFF, 0xFFFFFFFF, rng.randrange(1 << 32)]))
        if not made:
            return b""
    return bytes(made)


@settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 1 << 30))
@example(seed=29080)  # an encoding that nobody knows
def test_damaged_wav_files_open_or_are_one_sentence(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    rng = random.Random(seed)
    folder = tmp_path_factory.mktemp("fuzz")
    import soundfile

    from pulizia.media.broadcast import Broadcast, bext_chunk, ixml_chunk
    from pulizia.media.write import WavWriter

    said = bext_chunk(Broadcast(description="d", scene="1")) + ixml_chunk(Broadcast(scene="1", channel_names=("a",)))
    with WavWriter(folder / "good.wav", rate=8000, channels=1, sample_format="int16", chunks=said) as writer:
        writer.write(np.zeros((1, 50), np.float32))
    assert soundfile.info(folder / "good.wav").frames == 50
    head = (folder / "good.wav").read_bytes()
    (folder / "bad.wav").write_bytes(mangled(head, rng))
    sentence = "."
    try:
        media = open_media(folder / "bad.wav")
        assert media.source.frames * media.source.channels < 1 << 20
        media.source.read(0, media.source.frames)
    except PuliziaError as error:
        sentence = str(error)
    assert sentence
    assert "\n" not in sentence


json_values = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**12), 10**12) | st.floats(allow_nan=True) | st.text(max_size=12),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(
            st.sampled_from(
                [
                    "tool",
                    "settings",
                    "spans_s",
                    "steps",
                    "name",
                    "id",
                    "targets",
                    "integrated_lufs",
                    "gate",
                    "areas",
                    "bands",
                ]
            )
            | st.text(max_size=6),
            inner,
            max_size=5,
        )
    ),
    max_leaves=12,
)


@settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
@given(content=json_values, tool=st.sampled_from([t.id for t in registry.ALL]))
def test_any_json_is_read_or_refused_in_one_sentence(content: object, tool: str) -> None:
    step = {"tool": tool, "settings": content}
    recipes = (
        content,
        {"format": "pulizia-recipe", "version": 1, "steps": [step]},
        {"format": "pulizia-recipe", "version": 1, "steps": content},
    )
    told = [refusal(lambda v=v: parse_recipe(json.dumps(v), "r.json")) for v in recipes]
    told += [
        refusal(lambda v=v: read_targets(json.dumps(v), "t.json"))
        for v in (content, {"targets": [content]}, {"targets": content})
    ]
    assert all(told)


def refusal(read: Callable[[], object]) -> str:
    """The sentence with which something is refused; "read" when it is not."""
    try:
        read()
    except PuliziaError as error:
        return str(error)
    return "read"


def test_the_desktop_entry_is_installed_and_taken_out_again(
    capsys, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("HOME", str(tmp_path))
    assert run(capsys, "install-desktop")[0] == 0
    entry = (tmp_path / "data/applications/org.pulizia.Pulizia.desktop").read_text()
    assert "@EXEC@" not in entry
    assert "x-pulizia-project" in entry
    assert (tmp_path / ".local/bin/pulizia").is_symlink()
    validators = (
        ("desktop-file-validate", "data/applications/org.pulizia.Pulizia.desktop"),
        ("appstreamcli", "validate", "--no-net", "data/metainfo/org.pulizia.Pulizia.metainfo.xml"),
    )
    for command, *words in validators:
        if shutil.which(command) is None:
            assert not os.environ.get("CI"), f"{command} must be installed on a build machine"
            continue
        done = subprocess.run([command, *words], check=False, cwd=tmp_path, capture_output=True, text=True)
        assert done.returncode == 0, done.stdout + done.stderr
    assert run(capsys, "uninstall-desktop")[0] == 0
    assert not [p for p in tmp_path.rglob("*pulizia*") if p.is_file() or p.is_symlink()]

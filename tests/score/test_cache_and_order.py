# SPDX-License-Identifier: GPL-3.0-or-later
"""The cache of rendered chunks, analyses made once, notes about order, recipes by name."""

from __future__ import annotations

import errno
import gc
import os
import subprocess
import sys
import threading
import time
import weakref
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.errors import Cancelled, RecipeError
from pulizia.media import ahead
from pulizia.media.folders import config_folder
from pulizia.score import disk_chunks
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain, Stage
from pulizia.score.disk_chunks import DiskChunks
from pulizia.score.order import HARMFUL, order_note
from pulizia.score.recipe_library import find_recipe, keep_recipe, own_recipes, shipped_recipes
from pulizia.score.recipes import parse_recipe, recipe_text
from pulizia.score.runs import CHUNK_FRAMES
from pulizia.score.steps import make_step
from pulizia.tools.registry import tool_of

RATE = 48_000


def chunk(value: float, frames: int = 1000) -> np.ndarray:
    return np.full((1, frames), value, np.float32)


def test_a_chunk_is_made_once_even_when_many_ask() -> None:
    cache, made = ChunkCache(1 << 20), []

    def slow() -> np.ndarray:
        made.append(threading.get_ident())
        time.sleep(0.05)
        return chunk(1.0)

    found: list[np.ndarray] = []
    threads = [threading.Thread(target=lambda: found.append(cache.get("k", slow))) for _ in range(6)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert len(made) == 1
    assert all(f is found[0] for f in found)
    with pytest.raises(ValueError, match="read-only"):
        found[0][0, 0] = 2.0


def test_a_failed_chunk_is_tried_again_and_blocks_nobody() -> None:
    cache = ChunkCache(1 << 20)
    with pytest.raises(RuntimeError, match="first"):
        cache.get("k", lambda: (_ for _ in ()).throw(RuntimeError("first")))
    assert cache.get("k", lambda: chunk(3.0))[0, 0] == 3.0


def test_what_leaves_memory_is_found_on_the_disk_and_both_are_bounded(tmp_path: Path) -> None:
    cache = ChunkCache(10_000, tmp_path, disk_bytes=40_000)  # two chunks in memory, ten on the disk
    for n in range(30):
        cache.put(f"k{n}", chunk(n))
        assert cache.held_bytes <= 10_000
        cache.flush()
    files = list(tmp_path.glob("*.chunk"))
    assert sum(f.stat().st_size for f in files) <= 40_000 + 2000
    again = ChunkCache(10_000, tmp_path, disk_bytes=40_000)
    newest = next(n for n in range(29, -1, -1) if (tmp_path / f"k{n}.chunk").exists())
    assert again.get(f"k{newest}", lambda: pytest.fail("it lies on the disk"))[0, 0] == newest
    (tmp_path / f"k{newest}.chunk").write_bytes(b"damaged")
    third = ChunkCache(10_000, tmp_path)
    assert third.get(f"k{newest}", lambda: chunk(7.0))[0, 0] == 7.0


def test_one_folder_is_bounded_over_all_processes_and_what_was_used_stays(tmp_path: Path) -> None:
    for name, age in (("crashed-1.part", 3600), ("young-2.part", 5)):
        (tmp_path / name).write_bytes(b"half")
        os.utime(tmp_path / name, (time.time() - age,) * 2)
    write = (
        "import sys, time, numpy as np; from pathlib import Path; from pulizia.score.disk_chunks import DiskChunks\n"
        "disk = DiskChunks(Path(sys.argv[1]), 100_000)\n"
        "for n in range(40):\n"
        "    disk.store(f'{sys.argv[2]}{n}', np.full((1, 1000), n, np.float32)); disk.flush(); time.sleep(0.03)\n"
    )
    first = DiskChunks(tmp_path, 100_000)
    first.store("used", chunk(1.0))
    first.flush()
    both = [subprocess.Popen([sys.executable, "-c", write, str(tmp_path), name]) for name in "ab"]
    while any(process.poll() is None for process in both):
        assert first.load("used") is not None  # it is read again and again
        time.sleep(0.01)
    assert [process.returncode for process in both] == [0, 0]
    first.make_room()
    files = list(tmp_path.glob("*.chunk"))
    assert 50_000 < sum(f.stat().st_size for f in files) <= 100_000
    assert first.has("used")
    assert [f.name for f in tmp_path.glob("*.part")] == ["young-2.part"]
    other = next(f.stem for f in files if f.stem != "used")
    assert first.load(other) is not None  # written by another process


def test_a_disk_that_is_behind_or_full_costs_only_the_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    disk = DiskChunks(tmp_path, 1 << 20)
    gate = threading.Event()
    real = disk_chunks.write_array

    def slow(file, array):
        gate.wait(10)
        if array[0, 0] == 3.0:
            raise OSError(errno.ENOSPC, "full")
        real(file, array)

    monkeypatch.setattr(disk_chunks, "write_array", slow)
    began = time.monotonic()
    for n in range(200):
        disk.store(f"k{n}", chunk(float(n)))
    assert time.monotonic() - began < 5.0  # nobody waits
    gate.set()
    disk.flush()
    kept = {f.stem for f in tmp_path.glob("*.chunk")}
    assert 60 <= len(kept) <= 66
    assert "k3" not in kept
    assert disk.load("k3") is None
    assert not list(tmp_path.glob("*.part"))


@pytest.mark.slow
def test_what_is_made_on_several_threads_is_the_same_and_made_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Room tail over Noise: both make six chunks at once, and each asks for some of the next group of the other."""
    source = ArraySource(voice_in_noise(34.0), RATE)
    steps = [make_step("noise"), make_step("room_tail")]
    plain = Chain(source, steps, ChunkCache(), AnalysisStore()).after.read(0, source.frames)
    made, real = [], Stage._render

    def counted(stage: Stage, first: int, last: int) -> np.ndarray:
        made.append((stage.step.tool_id, first, last))
        return real(stage, first, last)

    monkeypatch.setattr(Stage, "_render", counted)
    monkeypatch.setattr(ahead, "threads", lambda: 3)
    after = Chain(source, steps, ChunkCache(), AnalysisStore()).after
    shares: list[float] = []
    ahead.render(after, 0, None, shares.append)
    assert sorted(made) == sorted(set(made))
    assert shares[-1] == 1.0
    assert sorted(shares) == shares
    count = len(made)
    with ahead.made_ahead(after) as reader:
        assert (reader.frames, reader.channels, reader.rate, reader.key) == (after.frames, 1, RATE, after.key)
        assert reader.span_key(5, 900_000) == after.span_key(5, 900_000)
        for a, b in ((0, 100), (393_000, 394_000), (100, 1_500_000), (7, 7), (source.frames - 9, source.frames)):
            assert np.array_equal(reader.read(a, b), plain[:, a:b])
    assert len(made) == count

    def stop(_share: float) -> None:
        raise Cancelled

    with pytest.raises(Cancelled):
        ahead.render(after, 0, None, stop)


def test_an_edit_leaves_the_keys_of_untouched_stretches_alone() -> None:
    source = ArraySource(voice_in_noise(8.0), RATE)
    step = make_step("level", {"way": "gain", "gain_db": -6.0}, spans=(Span(0, CHUNK_FRAMES),))
    cache, store = ChunkCache(), AnalysisStore()
    plain, edited = Chain(source, [], cache, store).after, Chain(source, [step], cache, store).after
    far = (4 * CHUNK_FRAMES, 5 * CHUNK_FRAMES)
    assert edited.span_key(*far) == plain.span_key(*far)
    assert edited.span_key(0, CHUNK_FRAMES) != plain.span_key(0, CHUNK_FRAMES)
    assert np.array_equal(edited.read(*far), source.read(*far))


def test_going_back_to_earlier_settings_computes_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    source = ArraySource(voice_in_noise(4.0), RATE)
    cache, store = ChunkCache(), AnalysisStore()
    quiet, loud = (make_step("equaliser", {"bands": [["bell", 900.0, g, 2.0]]}) for g in (-6.0, -3.0))
    first = Chain(source, [quiet], cache, store).after.read(0, 4 * RATE)
    Chain(source, [loud], cache, store).after.read(0, 4 * RATE)
    monkeypatch.setattr("pulizia.score.chain.Stage._render", lambda *_a: pytest.fail("it is in the cache"))
    assert np.array_equal(Chain(source, [quiet], cache, store).after.read(0, 4 * RATE), first)


@pytest.mark.parametrize(("first", "second", "why"), HARMFUL, ids=lambda x: x if len(x) < 20 else "")
def test_every_order_that_harms_is_told_at_both_steps_and_mended_by_moving(first: str, second: str, why: str) -> None:
    a, b = make_step(first), make_step(second)
    assert order_note([a, b], a.id) == order_note([a, b], b.id) == why
    assert not order_note([b, a], a.id)
    assert "Move" in why
    assert tool_of(second).order < tool_of(first).order, (
        "the order that is usual for new steps must not be one that harms"
    )
    assert (second, first) not in {(f, s) for f, s, _ in HARMFUL}, "one of the two orders must be free of harm"


def test_own_recipes_go_before_shipped_ones_and_damaged_ones_do_no_harm(tmp_path: Path) -> None:
    path = tmp_path / "hard-s.json"
    path.write_text(recipe_text("Mine", (make_step("gate"),), RATE, "For me."), encoding="utf-8")
    assert find_recipe("hard-s").name == shipped_recipes()["hard-s"].name
    keep_recipe(path)
    assert find_recipe("hard-s").name == "Mine"
    (config_folder("recipes") / "broken.json").write_text("{", encoding="utf-8")
    assert set(own_recipes()) == {"hard-s"}
    with pytest.raises(RecipeError, match="not readable as JSON"):
        find_recipe("broken")
    with pytest.raises(RecipeError, match="There is no recipe nosuch"):
        find_recipe("nosuch")


def test_open_places_of_a_recipe_are_named_and_filled() -> None:
    recipe = shipped_recipes()["interview-on-location"]
    places = recipe.open_places()
    assert [name for _, name, _ in places] == ["profile_spans_s"]
    made = recipe.placed((0.5, 1.5), [(places[0][0], places[0][1])])
    assert made.open_places() == ()
    steps = made.steps_for(RATE)
    assert next(s for s in steps if s.tool_id == "noise").settings.profile_spans_s == ((0.5, 1.5),)
    assert recipe.open_places() == places  # the recipe itself is a value


@pytest.mark.parametrize(("text", "words"), [
    ("[]", "is not a recipe"), ('{"format": "pulizia-recipe", "version": 9, "steps": []}', "Update Pulizia"),
    ('{"format": "pulizia-recipe", "version": 1}', 'no list "steps"'), ('{"format": "pulizia-recipe", "version": 1, "steps": [{}]}', 'names no "tool"'),
    ('{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noise", "sttings": {}}]}', "unknown entries sttings"),
    ('{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noise", "spans_s": [[3, 2]]}]}', "from smaller than to"),
    ('{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noise", "enabled": "yes"}]}', "true or false"),
])  # fmt: skip
def test_wrong_recipes_say_what_is_wrong_where(text: str, words: str) -> None:
    with pytest.raises(RecipeError, match=words):
        parse_recipe(text, "r.json")


def test_an_edit_behind_a_slow_step_takes_over_what_stands_before_it(monkeypatch: pytest.MonkeyPatch) -> None:
    source = ArraySource(np.random.default_rng(4).normal(0, 0.1, (1, 200_000)).astype(np.float32), 48_000)
    slow, level = make_step("noise"), make_step("level", {"way": "gain", "gain_db": -3.0})
    first = Chain(source, (slow, level), ChunkCache(), AnalysisStore())
    first.after.read(0, source.frames)
    rendered: list[str] = []
    made = Stage._made
    monkeypatch.setattr(
        Stage, "_made", lambda stage, index: (rendered.append(stage.step.tool_id), made(stage, index))[1]
    )
    louder = replace(level, settings=replace(level.settings, gain_db=3.0))
    second = Chain(source, (slow, louder), first.stages[slow.id].cache, AnalysisStore(), previous=first)
    assert second.stages[slow.id] is first.stages[slow.id]
    assert second.stages[level.id] is not first.stages[level.id]
    second.after.read(0, source.frames)
    assert set(rendered) == {"level"}
    other = replace(slow, settings=replace(slow.settings, reduction_db=3.0))
    assert (
        Chain(source, (other, level), ChunkCache(), AnalysisStore(), previous=first).stages[slow.id]
        is not first.stages[slow.id]
    )


def test_a_chunk_does_not_keep_the_block_alive_that_it_was_cut_from() -> None:
    """What is held is what is counted: a chunk is a view into a block with all its context."""

    class Block(np.ndarray):
        """An array that can be watched."""

    cache = ChunkCache(1 << 20)

    def fill() -> tuple[weakref.ref[Block], np.ndarray, np.ndarray]:
        block = np.arange(300_000, dtype=np.float32).reshape(1, -1).view(Block)
        cache.put("b", block[:, 2000:3000])
        return weakref.ref(block), np.array(block[:, 1000:5000]), cache.get("a", lambda: block[:, 1000:5000])

    watched, wanted, kept = fill()
    gc.collect()
    assert watched() is None
    assert np.array_equal(kept, wanted)
    assert np.array_equal(cache.peek("b"), wanted[:, 1000:2000])
    assert cache.held_bytes == kept.nbytes + 4000
    for chunk in (kept, cache.peek("b")):
        with pytest.raises(ValueError, match="read-only"):
            chunk[0, 0] = 1.0
    assert cache.get("nothing", lambda: np.zeros((2, 0), np.float32)).shape == (2, 0)


def test_chunks_made_on_the_way_are_those_that_are_made_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """A tool that wants much context makes the chunks of its section that join the one wanted, inside a group of six."""
    rendered: list[tuple[int, int]] = []
    render = Stage._render

    def counted(stage: Stage, first: int, last: int) -> np.ndarray:
        rendered.append((first // CHUNK_FRAMES, -(-last // CHUNK_FRAMES)))
        return render(stage, first, last)

    monkeypatch.setattr(Stage, "_render", counted)
    sound = ArraySource(voice_in_noise(15 * CHUNK_FRAMES / RATE), RATE)
    spans = (Span(int(7.3 * CHUNK_FRAMES), int(10.6 * CHUNK_FRAMES)), Span(13 * CHUNK_FRAMES, 14 * CHUNK_FRAMES))
    step = make_step("split_compressor", {"threshold_db": -55.0}, spans=spans)

    def fresh() -> Chain:
        made = Chain(sound, (step,), ChunkCache(), AnalysisStore())
        made.prepare()
        return made

    together = fresh()
    for n in (9, 7, 8, 10, 11, 13, 6):
        read = together.after.read(n * CHUNK_FRAMES, (n + 1) * CHUNK_FRAMES)
        alone = fresh().after.read(n * CHUNK_FRAMES + 5, (n + 1) * CHUNK_FRAMES - 7)
        assert np.array_equal(read[:, 5:-7], alone), n
        untouched = not any(span.start < (n + 1) * CHUNK_FRAMES and n * CHUNK_FRAMES < span.stop for span in spans)
        assert np.array_equal(read, sound.read(n * CHUNK_FRAMES, (n + 1) * CHUNK_FRAMES)) == untouched
    mine = [one for one in rendered if one[1] - one[0] > 1]
    assert set(mine) == {(7, 11)}

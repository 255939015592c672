# SPDX-License-Identifier: GPL-3.0-or-later
"""Any deeds in any order: what is saved is what there was, undo and redo lead back, and everything can be heard."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from tests.golden.diary import Diary, files
from tests.golden.sounds import RATE

from pulizia.audio.spans import Span
from pulizia.errors import PuliziaError
from pulizia.project.file import parse_project, project_text
from pulizia.project.model import Project
from pulizia.session.heard import Listening
from pulizia.tools.registry import ALL

SLOW = {"voice_sieve", "room_tail", "clicks", "areas", "original", "dull_voice", "plosives", "breaths"}
LONGEST_S = 14.0


class Hand:
    """Somebody who does anything."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng, self.folder = random.Random(seed), folder
        self.diary = Diary(folder)
        self.session = self.diary.session
        self.session.files.open_paths([*files(folder).values()])
        self.diary.settle()
        self.tools = [tool.id for tool in ALL if tool.id not in SLOW]
        self.paths = [*files(folder).values(), folder / "half.wav"]
        samples, rate = soundfile.read(self.paths[0], dtype="float32", always_2d=True)
        soundfile.write(self.paths[-1], samples[: len(samples) // 2], rate, subtype="PCM_24")
        self.deeds = [*self._on_the_bench(), *self._in_the_assembly(), *self._with_files()]

    def act(self) -> None:
        """Do one thing; where nothing is left of the project, its files are opened again first."""
        if not self.project().recordings:
            self.session.files.open_paths(self.paths)
            self.diary.settle()
        self.rng.choice(self.deeds)()
        self.diary.settle()

    # -- what may be chosen

    def frame(self) -> int:
        return self.rng.randrange(round(LONGEST_S * RATE))

    def recording(self) -> Any:
        return self.rng.choice(self.session.document.project.recordings)

    def with_clip(self, deed: Callable[[Any], object]) -> Callable[[], object]:
        def act() -> object:
            programme = self.session.assembly.programme
            clips = [c for lane in programme.lanes for c in lane.clips] if programme is not None else []
            return deed(self.rng.choice(clips)) if clips else None

        return act

    def with_lane(self, deed: Callable[[Any], object], share: float = 1.0) -> Callable[[], object]:
        def act() -> object:
            programme = self.session.assembly.programme
            if programme is None or not programme.lanes or self.rng.random() > share:
                return None
            return deed(self.rng.choice(programme.lanes))

        return act

    def _on_the_bench(self) -> list[Callable[[], object]]:
        x, rng = self.session, self.rng
        return [
            lambda: x.choose_recording(self.recording().id),
            lambda: x.repairs.add_tool(rng.choice(self.tools), on_selection=rng.random() < 0.5),
            lambda: x.select_owner(self.frame(), self.frame()),
            lambda: x.select(self.frame(), self.frame(), tuple(sorted((rng.uniform(0, 9000), rng.uniform(0, 24_000))))),
            lambda: x.select_owner(20_000, 20_000 + rng.randrange(1, 4000)),
            x.repairs.take_as_noise, x.repairs.take_as_area, x.repairs.mend_selection,
            x.repairs.give_back, x.repairs.trim_to_selection, x.repairs.untrim,
            x.steps.toggle, x.steps.remove, lambda: x.steps.move(rng.choice((-1, 1))),
            lambda: x.choose_steps([s.id for s in (x.owner.steps if x.owner else ()) if rng.random() < 0.5]),
            x.steps.copy, x.steps.paste, x.presets.switch_side,
            lambda: x.set_listening(rng.choice(list(Listening))), lambda: x.set_pick(rng.choice(["", "left", "mono", "side"])),
            lambda: x.hear_channel(rng.choice([None, 0, 1, 2])), lambda: x.seek(self.frame()),
            x.markers.add, lambda: x.markers.go(rng.choice((-1, 1))), x.toggle_loop,
            x.document.undo, x.document.undo, x.document.redo,
            lambda: x.document.go_to(rng.randrange(60)),
        ]  # fmt: skip

    def _in_the_assembly(self) -> list[Callable[[], object]]:
        x, rng, a = self.session, self.rng, self.session.assembly
        piece = lambda: Span(rng.randrange(2 * RATE), round(rng.uniform(2.1, 6.0) * RATE))  # noqa: E731
        points = lambda clip: tuple((rng.randrange(clip.frames), rng.uniform(-20, 6)) for _ in range(3))  # noqa: E731
        return [
            a.enter, a.leave, lambda: a.new_programme() if rng.random() < 0.1 else None,
            lambda: a.add_recording(self.recording(), at=rng.choice([None, self.frame()])),
            lambda: a.add_recording(self.recording(), piece()),
            a.split, a.remove, a.ripple_delete, a.close_gap,
            lambda: a.trim_to_head(rng.choice(("start", "stop"))),
            self.with_clip(lambda c: a.trim(c.id, start=self.frame())), self.with_clip(lambda c: a.trim(c.id, stop=self.frame())),
            self.with_clip(lambda c: a.toggle(c.id)), self.with_clip(lambda c: a.select([c.id])),
            self.with_clip(lambda c: a.slide(c.id, rng.randrange(-20_000, 20_000))),
            self.with_clip(lambda c: a.roll(c.id, rng.choice(("start", "stop")), self.frame())),
            self.with_clip(lambda c: a.set_line(c.id, points(c))),
            lambda: a.move(rng.randrange(-96_000, 96_000)), lambda: a.move_to_lane(rng.choice((-1, 1))),
            lambda: a.nudge(rng.choice((-480, 1))), lambda: a.slip(rng.randrange(-48_000, 48_000)),
            a.duplicate, a.copy, a.paste, a.insert,
            lambda: a.add_gain(rng.uniform(-6, 6)),
            lambda: a.set_fade(rng.choice(("in", "out")), rng.randrange(48_000), rng.choice(("gain", "power", "matched"))),
            a.cross_fade, a.fill_gaps, a.set_enabled,
            lambda: a.select_span(self.frame(), self.frame()), a.select_all, a.select_behind, a.select_lane,
            self.with_lane(lambda la: a.choose_lane(la.id)), self.with_lane(lambda la: a.remove_lane(la.id), 0.2),
            self.with_lane(lambda la: a.move_lane(la.id, rng.choice((-1, 1)))), self.with_lane(lambda la: a.lock_lane(la.id), 0.3),
            self.with_lane(lambda la: a.switch_lane(la.id, "Mute", "muted", on=rng.random() < 0.3)),
            self.with_lane(lambda la: a.set_lane_gain(la.id, rng.uniform(-10, 5))), lambda: a.add_lane() if rng.random() < 0.3 else None,
            lambda: a.choose_scope(rng.choice(("recording", "lane", "programme"))), a.add_marker,
            x.programme_steps.restore_original, x.programme_steps.switch, x.cut_listening.toggle_last_edit,
            lambda: x.speech.go(1), x.speech.select_phrase, lambda: x.speech.tighten(rng.uniform(0.3, 1)),
            lambda: x.speech.lengthen(rng.uniform(0.05, 1)), x.speech.cut_breath, x.microphones.on_lanes,
            x.clip_levels.match,
        ]  # fmt: skip

    def _with_files(self) -> list[Callable[[], object]]:
        """Deeds that change which file a recording plays, whether it is there, and what is known of the past."""
        x, rng = self.session, self.rng

        def again() -> None:
            x.document.save(self.folder / "kept")
            x.files.open_project(self.folder / "kept.pulizia")

        seldom = lambda deed: lambda: deed() if rng.random() < 0.3 else None  # noqa: E731
        return [
            lambda: x.files.relink(self.recording().id, rng.choice(self.paths)),
            lambda: x.files.open_paths([rng.choice(self.paths)]),
            seldom(lambda: x.files.remove([self.recording().id]) if len(self.project().recordings) > 2 else None),
            seldom(again),
        ]

    # -- what holds after each of them

    def project(self) -> Project:
        return self.session.document.project

    def check(self) -> None:
        text, assembly = project_text(self.project(), self.folder), self.session.assembly
        assert project_text(parse_project(text, "saved", self.folder), self.folder) == text
        known = (
            {c.id for lane in assembly.programme.lanes for c in lane.clips} if assembly.programme is not None else set()
        )
        assert assembly.clip_ids <= known
        source, marked = self.session.heard_source, self.session.marked
        assert source is None or marked is None or marked.stop <= source.frames
        for recording in self.project().recordings:
            media = self.session.document.media.get(recording.id)
            if media is not None:
                assert (media.fingerprint, media.source.frames) == (recording.fingerprint, recording.frames)
        if source is not None:
            start = self.rng.randrange(max(1, source.frames))
            try:
                heard = source.read(start, min(source.frames, start + 4800))
            except PuliziaError as error:  # what cannot be done says why
                assert str(error).endswith(".")  # noqa: PT017 - each may be refused or not
            else:
                assert np.isfinite(heard).all()

    def there_and_back(self) -> None:
        document, now, count = self.session.document, self.project(), 0
        while document.history.undo_label:
            document.undo()
            count += 1
        for _ in range(count):
            document.redo()
        assert self.project() == now


@pytest.mark.slow
@pytest.mark.parametrize("seed", [1, 3, 7])
def test_nothing_breaks_whatever_is_done(tmp_path: Path, seed: int) -> None:
    hand = Hand(tmp_path, seed)
    try:
        for number in range(150):
            hand.act()
            hand.check()
            if number % 25 == 24:
                hand.there_and_back()
    finally:
        hand.session.close()

# SPDX-License-Identifier: GPL-3.0-or-later
"""Random edits on the Bench and in the assembly, play, seek, undo and inspection at high speed over the simulated output.

Usage: soak.py [MINUTES]. Ends with 1 when memory grew without bound, a job hung, or anything failed.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as the program does

from PySide6.QtCore import QEvent

from pulizia.desktop.start import collect_at_rest, make_application, make_window, settle_memory
from pulizia.session import memory
from pulizia.session.session import Session
from pulizia.session.words_service import OtherTakes
from pulizia.tools.registry import ALL


def held_mb() -> float:
    """Resident memory without mapped files, in MB, after what is free was returned: what the heap holds back is no growth."""
    memory.give_back(at_once=True)
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("RssAnon"):
            return int(line.split()[1]) / 1024
    return 0.0


CLOCK_S, MOST_DRIFT_MS = 20.0, 60.0
READINGS, LONGEST_REST_S = 12, 180.0
MOST_CLIPS, MOST_LANES, IN_ONE_PLACE = 120, 8, 60


class Hand:
    """Somebody who does anything on the Bench."""

    def __init__(self, session: Session) -> None:
        self.session, self.rng = session, random.Random(1)
        self.tools = [t.id for t in ALL if t.id != "voice_sieve"]
        self.deeds = (
            self.add, self.remove, session.document.undo, session.document.redo, session.play_or_stop,
            self.seek, self.mark, self.other, self.rare,
        )  # fmt: skip

    def act(self) -> None:
        """Do one thing."""
        self.rng.choice(self.deeds)()

    def add(self) -> None:
        """A step, anywhere or in what is marked."""
        if len(self.session.recording.score) < 6:
            self.session.repairs.add_tool(self.rng.choice(self.tools), on_selection=self.rng.random() < 0.3)

    def remove(self) -> None:
        """Take a step away."""
        recording = self.session.recording
        if recording.score:
            self.session.document.remove_step(recording.id, self.rng.choice(recording.score).id)

    def seek(self) -> None:
        """Move the play head."""
        self.session.seek(self.rng.randrange(self.session.recording.frames))

    def mark(self) -> None:
        """Mark a stretch, with a band or without."""
        frames = self.session.recording.frames
        a = self.rng.randrange(frames)
        band = (300.0, 3000.0) if self.rng.random() < 0.5 else None
        self.session.select(a, min(frames, a + self.rng.randrange(1000, 200_000)), band)

    def other(self) -> None:
        """Another recording."""
        self.session.choose_recording(self.rng.choice(self.session.document.project.recordings).id)

    def rare(self) -> None:
        """Loop, and now and then inspect."""
        self.session.inspection.run() if self.rng.random() < 0.1 else self.session.toggle_loop()


class Editor:
    """Somebody who does anything in the assembly."""

    def __init__(self, session: Session) -> None:
        self.session, self.service, self.rng = session, session.assembly, random.Random(2)
        document, speech = session.document, session.speech
        self.deeds = (
            self.choose, self.choose, self.mark, self.seek, self.seek, self.service.split, self.trim, self.move, self.gain, self.fade,
            self.service.remove, self.service.ripple_delete, self.service.close_gap, self.service.cross_fade, self.service.set_enabled,
            self.service.copy, self.service.paste, self.service.insert, self.service.duplicate, self.service.fill_gaps, self.lane, self.height,
            self.service.add_marker, self.step, speech.select_phrase, speech.tighten, speech.cut_breath, self.words,
            session.cut_listening.loop_cut, session.cut_listening.toggle_last_edit, session.play_or_stop,
            document.undo, document.undo, document.redo,
        )  # fmt: skip

    def act(self) -> None:
        """Do one thing; a programme that was emptied, or has grown far, is begun again."""
        programme = self.service.programme
        if programme is None or not programme.frames or sum(len(la.clips) for la in programme.lanes) > MOST_CLIPS:
            self.service.new_programme()
            for recording in self.session.document.project.recordings:
                self.service.add_recording(recording)
            return
        self.rng.choice(self.deeds)()

    def choose(self) -> None:
        """A few clips."""
        every = [c.id for lane in self.service.programme.lanes for c in lane.clips]
        self.service.select(self.rng.sample(every, min(len(every), self.rng.randrange(1, 4))))

    def mark(self) -> None:
        """A section of up to four seconds."""
        a = self.rng.randrange(self.service.programme.frames)
        self.service.select_span(a, a + self.rng.randrange(4 * self.service.programme.rate))

    def seek(self) -> None:
        """Move the play head."""
        self.session.seek(self.rng.randrange(self.service.programme.frames))

    def trim(self) -> None:
        """An end of a clip, to the play head or elsewhere."""
        self.service.trim_to_head(self.rng.choice(("start", "stop")))

    def move(self) -> None:
        """Some way, perhaps to another lane."""
        lane = self.rng.choice(self.service.programme.lanes).id if self.rng.random() < 0.3 else None
        self.service.move(self.rng.randrange(-100_000, 100_000), lane)

    def gain(self) -> None:
        """Of the selected clips."""
        self.service.add_gain(self.rng.choice((-2.0, 1.0)))

    def fade(self) -> None:
        """Of the selected clips."""
        self.service.set_fade(self.rng.choice(("in", "out")), self.rng.randrange(20_000))

    def lane(self) -> None:
        """Add one, move one, mute one."""
        lane = self.rng.choice(self.service.programme.lanes)
        if len(self.service.programme.lanes) < MOST_LANES and self.rng.random() < 0.3:
            self.service.add_lane()
        elif self.rng.random() < 0.5:
            self.service.switch_lane(lane.id, "Mute", "muted", on=not lane.muted)
        else:
            self.service.move_lane(lane.id, self.rng.choice((-1, 1)))

    def height(self) -> None:
        """Of a lane."""
        programme = self.service.programme
        self.session.document.set_lane_height(
            programme.id, self.rng.choice(programme.lanes).id, self.rng.uniform(0.4, 2.0)
        )

    def step(self) -> None:
        """On a lane, at most two."""
        lane = self.rng.choice(self.service.programme.lanes)
        if len(lane.steps) < 2:
            self.session.document.add_step(lane.id, self.rng.choice(("equaliser", "leveller", "limiter", "noise")), {})
        else:
            self.session.document.remove_step(lane.id, lane.steps[0].id)

    def words(self) -> None:
        """Of another take, heard and now and then laid down."""

        def found(takes: OtherTakes) -> None:
            self.session.words.hear(takes, 0)
            if self.rng.random() < 0.5:
                self.session.words.put(takes, 0)

        self.session.words.look(found)


def clock_drift_ms(session: Session, turn: Callable[[float], None]) -> float:
    """How far the play head is ahead of the clock after playing for a while, looped, beyond where it was at first."""
    longest = max(session.document.project.recordings, key=lambda r: r.seconds)
    session.choose_recording(longest.id)
    session.transport.loop = None
    session.transport.play(0)
    turn(1.0)
    began, first = time.monotonic(), session.transport.position
    turn(CLOCK_S)
    played = (session.transport.position - first) / longest.rate
    ahead = played - (time.monotonic() - began)
    session.transport.stop()
    return 1000.0 * ahead


def main(minutes: float) -> int:
    """Run, and tell memory and faults."""
    memory.settle_heap()
    application = make_application()
    window, poster = make_window(simulated=True)
    window.files.asks = False
    window.show()
    settle_memory()
    collect_at_rest(window)
    session = window.session
    window.files.open_demo()

    def turn(seconds: float) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            application.processEvents()
            application.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # as the event loop does
            time.sleep(0.002)

    def rest(most_s: float) -> None:
        """Let work end: what a job takes while it runs is no growth."""
        session.transport.stop()
        end = time.monotonic() + most_s
        while session.pool.busy and time.monotonic() < end:
            turn(0.2)

    turn(3.0)
    hands, seen, done = (Hand(session), Editor(session)), [], 0
    for _ in range(READINGS):
        end = time.monotonic() + 60.0 * minutes / READINGS
        while time.monotonic() < end:
            place = done // IN_ONE_PLACE % 2
            if done % IN_ONE_PLACE == 0:
                session.transport.stop()
                window.go_to(place)
            hands[place].act()
            done += 1
            turn(0.05)
        rest(LONGEST_REST_S)
        seen.append(held_mb())
        at_work = ", still at work" if session.pool.busy else ""
        print(f"{done} actions, {seen[-1]:.0f} MB{at_work}", flush=True)
    window.go_to(0)
    turn(5.0)
    rest(LONGEST_REST_S)
    drift_ms = clock_drift_ms(session, turn)
    stuck, faults = [j.title for j in session.pool.busy], session.pool.unexpected
    readings = ", ".join(f"{mb:.0f}" for mb in seen)
    middle, late = (sum(seen[a : a + READINGS // 3]) * 3 / READINGS for a in (READINGS // 3, 2 * READINGS // 3))
    print(
        f"{done} actions; memory at {READINGS} times {readings} MB, middle third {middle:.0f}, last third {late:.0f} MB; stuck: {stuck or 'none'}; faults: {faults or 'none'}; clock {drift_ms:+.0f} ms over {CLOCK_S:.0f} s"
    )
    window.close()
    poster.close()
    return 1 if stuck or faults or late > 1.15 * middle + 50 or abs(drift_ms) > MOST_DRIFT_MS else 0


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as home:
        os.environ.setdefault("PULIZIA_HOME", home)
        sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0))

# SPDX-License-Identifier: GPL-3.0-or-later
"""Background work and the services of the session, without a window."""

from __future__ import annotations

import gc
import json
import os
import subprocess
import sys
import threading
import time
import weakref
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.conftest import voice_in_noise

from pulizia.audio.spans import Span
from pulizia.delivery.deliverable import Deliverable
from pulizia.errors import DeliveryError, MediaError
from pulizia.media.folders import state_folder
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project
from pulizia.project.model import Project
from pulizia.session import history as history_module
from pulizia.session.history import History
from pulizia.session.jobs import FIRST, LATER, SOON, VISIBLE, Job, JobPool
from pulizia.session.orders import INTERRUPTED, Order, Stage, interrupted
from pulizia.session.plan_service import Aim
from pulizia.session.print_service import parts_of, provenance
from pulizia.session.queue_service import order_path
from pulizia.session.session import Session
from pulizia.session.sound_out import SimulatedOut

RATE = 48_000


@pytest.fixture
def pool() -> Iterator[JobPool]:
    made = JobPool(threads=1)
    yield made
    made.close()


def test_nothing_is_heard_of_a_job_that_was_stopped(pool: JobPool) -> None:
    """Whoever asked may be gone by the time that progress which was told before comes home."""
    posted: list[Callable[[], None]] = []
    pool._post = posted.append
    shares: list[float] = []
    job = pool.submit(lambda job: job.progress(1.0), on_progress=shares.append, on_done=shares.append)
    assert job.finished.wait(5)
    assert len(posted) == 2
    posted[0]()
    assert shares == [1.0]
    job.cancel()
    for call in posted:
        call()
    assert shares == [1.0]


def test_the_most_urgent_goes_first_and_the_newest_among_equals(pool: JobPool) -> None:
    order: list[str] = []
    gate = threading.Event()
    pool.submit(lambda _job: gate.wait(5), title="holds the thread")
    time.sleep(0.05)
    jobs = [
        pool.submit(lambda _job, n=n: order.append(n), priority=p)
        for n, p in (("later", LATER), ("soon 1", SOON), ("seen", VISIBLE), ("soon 2", SOON), ("first", FIRST))
    ]
    gate.set()
    for job in jobs:
        assert job.finished.wait(5)
    assert order == ["first", "seen", "soon 2", "soon 1", "later"]


def test_a_newer_wish_in_the_same_place_cancels_the_older_and_its_answer_is_dropped(pool: JobPool) -> None:
    answers: list[str] = []
    begun = threading.Event()

    def slow(job: Job) -> str:
        begun.set()
        for _ in range(500):
            job.progress(0.1)
            time.sleep(0.01)
        return "old"

    old = pool.submit(slow, slot="here", on_done=answers.append)
    assert begun.wait(5)
    new = pool.submit(lambda _job: "new", slot="here", on_done=answers.append)
    assert new.finished.wait(5)
    assert old.finished.wait(5)
    assert answers == ["new"]
    assert old.is_cancelled


def test_what_was_cancelled_while_waiting_lets_go_of_what_it_holds() -> None:
    """A busy pool must not gather wishes that nobody has any more: each holds a whole chain of sound."""
    pool, gate = JobPool(threads=1), threading.Event()
    pool.submit(lambda _job: gate.wait(20))
    held = []
    for _ in range(200):
        sound = np.zeros(10)
        held.append(weakref.ref(sound))
        pool.submit(lambda _job, sound=sound: sound.sum(), slot="measure")  # type: ignore[misc]
    del sound
    gc.collect()
    alive = sum(ref() is not None for ref in held)
    gate.set()
    pool.close()
    assert alive < 20


def test_faults_become_one_sentence_and_the_thread_goes_on(pool: JobPool, capsys: pytest.CaptureFixture[str]) -> None:
    told: list[str] = []

    def fails(_job: Job) -> None:
        message = "The file is gone. Look for it."
        raise MediaError(message)

    def breaks(_job: Job) -> None:
        raise ZeroDivisionError

    for work in (fails, breaks):
        assert pool.submit(work, title="Work", on_error=told.append).finished.wait(5)
    assert told[0] == "The file is gone. Look for it."
    assert "Work failed in a way that the program did not foresee" in told[1]
    assert len(pool.unexpected) == 1
    assert pool.submit(lambda _job: told.append("still here")).finished.wait(5)
    assert told[-1] == "still here"
    (note,) = state_folder("faults").iterdir()
    assert "ZeroDivisionError" in note.read_text()


def test_closing_waits_for_what_runs_and_drops_what_waits() -> None:
    pool = JobPool(threads=2)
    answers: list[int] = []
    for n in range(20):
        pool.submit(lambda job, n=n: [job.cancelled_within(0.02), n][1], on_done=answers.append)
    pool.close()
    count = len(answers)
    time.sleep(0.1)
    assert len(answers) == count
    assert not any(t.is_alive() for t in pool._threads)


def test_the_past_holds_no_more_clips_than_it_may(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(history_module, "MOST_CLIPS", 1000)
    still = Lane(name="Still").with_clips([Clip(recording_id="r", start=9 * n, inner=0, frames=9) for n in range(200)])
    moved = Lane(name="Moved")

    def project(n: int) -> Project:
        clips = [Clip(recording_id="r", start=n + 9 * k, inner=0, frames=9) for k in range(20)]
        return Project().with_programme(Programme(name="One", rate=48_000, lanes=(still, moved.with_clips(clips))))

    states = [project(n) for n in range(65)]
    history = History(states[0])
    for state in states[1:]:
        history.edit(state, "Ripple")
    depth = len(history.past)
    assert 36 <= depth <= 40 + history_module.BETWEEN_COUNTS  # 200 clips that all share, and 20 of each
    for state in reversed(states[-depth - 1 : -1]):
        assert history.undo()
        assert history.present is state
    assert not history.undo()


def test_edits_in_a_row_are_one_entry_of_history_until_let_go() -> None:
    states = [Project(target_id=f"t{n}") for n in range(6)]
    history = History(states[0])
    history.edit(states[1], "Turn", "slider")
    history.edit(states[2], "Turn", "slider")
    history.settle()
    history.edit(states[3], "Turn", "slider")
    history.edit(states[4], "Other")
    assert history.undo_label == "Other"
    assert [history.undo(), history.present] == [True, states[3]]
    assert [history.undo(), history.present] == [True, states[2]]
    assert [history.undo(), history.present] == [True, states[0]]
    assert not history.undo()
    assert history.redo_label == "Turn"
    history.redo()
    history.edit(states[5], "New way")
    assert not history.redo()
    history.edit(states[5], "Nothing changed")
    assert history.undo_label == "New way"


@pytest.fixture
def session(voice_file: Path, wav: Callable[..., Path]) -> Iterator[Session]:
    made = Session(SimulatedOut())
    for path in (voice_file, wav(voice_in_noise(4.0, seed=5), "two.wav")):
        made.document.add_media(open_media(path))
    made.said = []
    made.events.message.connect(lambda text, _bad: made.said.append(text))
    yield made
    made.close()
    assert made.pool.unexpected == []


def until(condition: Callable[[], object], seconds: float = 30.0) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end
        time.sleep(0.01)


def unwritten(session: Session) -> list[Order]:
    return [o for o in session.queue.orders if o.stage in (Stage.WAITING, Stage.WORKING)]


def test_plans_follow_the_edits_and_are_kept(session: Session) -> None:
    name = session.current_id
    aim = Aim(session.targets["ebu-r128"], "limit", dual=False)
    done: list[int] = []
    session.plans.want(name, aim, lambda: done.append(1), pytest.fail)
    until(lambda: done)
    first = session.plans.of(name, aim)
    assert first.predicted.integrated_lufs == pytest.approx(-23.0, abs=0.05)
    session.document.add_step(name, "level", {"way": "gain", "gain_db": -10.0})
    assert session.plans.of(name, aim) is None
    session.plans.want(name, aim, lambda: done.append(2), pytest.fail)
    until(lambda: len(done) == 2)
    assert session.plans.of(name, aim).gain_db == pytest.approx(first.gain_db + 10.0, abs=0.1)
    session.document.undo()
    assert session.plans.of(name, aim) is first
    twice = Aim(aim.target, "limit", dual=True)
    assert session.plans.counted(name, twice) is None
    session.plans.want(name, twice, lambda: done.append(3), pytest.fail)
    until(lambda: len(done) == 3)
    assert session.plans.counted(name, twice).integrated_lufs == pytest.approx(
        first.measured.integrated_lufs + 3.01, abs=0.02
    )


def test_the_queue_goes_on_after_a_failure_stops_and_takes_up_again(session: Session, tmp_path: Path) -> None:
    target = session.targets["online-16"]
    ids = [r.id for r in session.document.project.recordings]
    there = tmp_path / "there.wav"
    there.write_bytes(b"mine")
    orders = [
        Order(
            subject_id=i,
            name="x",
            path=path,
            wanted=Deliverable(),
            target=target,
            way="limit",
            dual_mono=False,
            with_report=n == 2,
            overwrite=False,
        )
        for n, (i, path) in enumerate(
            ((ids[0], there), (ids[1], tmp_path / "no" / "x.wav"), (ids[0], tmp_path / "good.wav"))
        )
    ]
    session.queue.add(orders)
    session.queue.add([orders[2]])
    assert any("queued already" in text for text in session.said)
    until(lambda: not unwritten(session))
    assert [o.stage for o in orders] == [Stage.FAILED, Stage.FAILED, Stage.DONE]
    assert "is there already" in orders[0].message
    assert "does not exist" in orders[1].message
    assert there.read_bytes() == b"mine"
    assert {p.name for p in tmp_path.iterdir() if p.name.startswith("good")} == {
        "good.wav",
        "good.html",
        "good.json",
        "good.csv",
    }
    there.unlink()
    (tmp_path / "no").mkdir()
    session.queue.again()
    until(lambda: not unwritten(session))
    assert {o.stage for o in orders} == {Stage.DONE}
    session.queue.clear()
    assert session.queue.orders == []


LEAVES_ORDERS = """
import sys, time
from pathlib import Path
from pulizia.delivery.deliverable import Deliverable
from pulizia.media.open import open_media
from pulizia.session.jobs import FIRST
from pulizia.session.orders import Order
from pulizia.session.sound_out import SimulatedOut
from pulizia.session.session import Session

session = Session(SimulatedOut(), threads=1)
rid = session.document.add_media(open_media(Path(sys.argv[1])))
session.document.save(Path(sys.argv[2]))
session.pool.submit(lambda _job: time.sleep(60), title="holds the only thread", priority=FIRST)
session.queue.add([
    Order(subject_id=rid, name="x", path=Path(sys.argv[2]).with_name(f"{n}.flac"), wanted=Deliverable(kind="flac"),
          target=session.targets["online-16"], way="gain", dual_mono=False, with_report=False, overwrite=False)
    for n in (1, 2)
])
print("ready", flush=True)
time.sleep(60)
"""


def test_what_a_killed_session_had_queued_is_there_with_its_project_and_written_again(
    voice_file: Path, tmp_path: Path
) -> None:
    project = tmp_path / "p.pulizia"
    child = subprocess.Popen(
        [sys.executable, "-c", LEAVES_ORDERS, str(voice_file), str(project)], stdout=subprocess.PIPE, text=True
    )
    assert child.stdout.readline() == "ready\n"
    rid = load_project(project).recordings[0].id
    assert interrupted(state_folder("orders"), {rid}) == []  # it still runs
    child.kill()
    child.wait()
    child.stdout.close()
    assert interrupted(state_folder("orders"), {"another"}) == []  # waits for its own project
    for round_ in (1, 2):  # not taken up, they are there once more
        session = Session(SimulatedOut())
        session.document.load(project)
        assert [o.stage for o in session.queue.orders] == [Stage.STOPPED] * 2, round_
        assert session.queue.orders[0].message == INTERRUPTED
        if round_ == 1:
            session.close()
            (kept,) = state_folder("orders").glob("*.orders")
            kept.write_text(kept.read_text().replace(f'"pid": {os.getpid()}', f'"pid": {child.pid}'))
    session.document.attach(rid, open_media(voice_file))
    session.queue.again()
    until(lambda: not unwritten(session))
    session.close()
    assert [o.stage for o in session.queue.orders] == [Stage.DONE] * 2
    assert open_media(tmp_path / "2.flac").source.frames == open_media(voice_file).source.frames
    assert list(state_folder("orders").iterdir()) == []


@given(
    text=st.text(max_size=30),
    row=st.dictionaries(st.sampled_from(["pid", "orders"]), st.sampled_from([-(10**30), -1, 0, 2**31 - 2, 10**30])),
)
def test_damaged_orders_are_dropped(text: str, row: dict[str, int]) -> None:
    folder = state_folder("orders")
    for content in (text, json.dumps(row), json.dumps({"pid": 0, "orders": [{"path": 3, **row}]})):
        (folder / "1.orders").write_text(content, encoding="utf-8")
        assert interrupted(folder, {"x"}) == []
        assert list(folder.iterdir()) == []


def test_names_of_files_come_from_the_pattern_and_never_leave_the_folder(session: Session, tmp_path: Path) -> None:
    target = session.targets["online-16"]
    session.document.add_step(session.recording.id, "noise")
    subject = session.subject
    path = order_path(
        subject, Deliverable(rate_hz=44_100), target, "{number} {name} {steps} {rate} {target}", tmp_path, 3
    )
    assert path == tmp_path / "03 take noise 44.1k online-16.wav"
    for pattern in ("../../{name}", "/etc/{name}", "a\\b{name}", "{name}\x00\n"):
        made = order_path(subject, Deliverable(), target, pattern, tmp_path, 1)
        assert made.parent == tmp_path
        assert made.resolve().is_relative_to(tmp_path.resolve())
    with pytest.raises(DeliveryError, match="known are"):
        order_path(subject, Deliverable(), target, "{nosuch}", tmp_path, 1)
    with pytest.raises(DeliveryError, match="leaves no name"):
        order_path(subject, Deliverable(), target, " . - ", tmp_path, 1)


def test_parts_between_markers_cover_everything_and_handles_stay_inside(session: Session) -> None:
    for frame in (60_000, 150_000):
        session.seek(frame)
        session.markers.add()
    recording = session.recording
    parts = parts_of(recording, "parts", None, 0.5)
    assert [p.inner for p in parts] == [Span(0, 60_000), Span(60_000, 150_000), Span(150_000, recording.frames)]
    assert parts[0].span == Span(0, 84_000)
    assert parts[-1].span == Span(126_000, recording.frames)
    assert len({p.name for p in parts}) == 3
    assert parts_of(recording, "selection", None, 1.0) == []
    assert parts_of(recording, "whole", None, 9.0)[0].span == Span(0, recording.frames)
    said = provenance(recording, _said(session), parts[1], 24)
    assert said.history.startswith(f"A=PCM,F={RATE},W=24,M=mono,T=from take.wav\r\n")
    assert said.frames_since_midnight == parts[1].span.start


def _said(session: Session):
    from pulizia.media.open import broadcast_of

    return broadcast_of(session.document.media[session.current_id])


def test_listening_matches_levels_and_follows_what_is_chosen(session: Session) -> None:
    until(lambda: session.measures("after") is not None)
    session.document.add_step(session.current_id, "level", {"way": "gain", "gain_db": -12.0})
    until(lambda: session.measures("after") is not None)
    assert session.match_gain_db() == pytest.approx(12.0, abs=0.05)
    material = session.transport._material
    assert 20 * np.log10(material.gain) == pytest.approx(12.0, abs=0.05)
    session.select(10_000, 20_000)
    session.play_or_stop()
    until(lambda: session.transport.position >= 10_000)
    until(lambda: not session.transport.is_playing)
    session.toggle_only_band()
    assert any("Select a band" in text for text in session.said)
    assert not session.only_band
    session.select(10_000, 20_000, (300.0, 3000.0))
    session.toggle_only_band()
    assert session.only_band
    session.clear_selection()
    assert not session.only_band


def test_while_a_hand_is_at_work_one_thread_alone_takes_requests() -> None:
    pool = JobPool(threads=3)
    gate, lock, running, most = threading.Event(), threading.Lock(), [0], [0]

    def work(_job: Job) -> None:
        with lock:
            running[0] += 1
            most[0] = max(most[0], running[0])
        gate.wait(0.05)
        with lock:
            running[0] -= 1

    def most_of(count: int) -> int:
        most[0] = 0
        jobs = [pool.submit(work, priority=VISIBLE) for _ in range(count)]
        assert all(job.finished.wait(20) for job in jobs)
        return most[0]

    try:
        assert most_of(6) > 1
        pool.one_at_a_time(0.6)
        assert most_of(4) == 1
        pool.one_at_a_time(0.1)
        jobs = [pool.submit(work, priority=VISIBLE) for _ in range(9)]
        assert all(job.finished.wait(20) for job in jobs)  # nobody sleeps on after it
        pool.one_at_a_time(0.0)
        assert most_of(6) > 1
    finally:
        pool.close()


def test_another_recording_is_heard_from_its_start_and_coming_back_as_well(session: Session) -> None:
    first, second = (r.id for r in session.document.project.recordings[:2])
    session.choose_recording(first)
    session.seek(RATE)
    session.choose_recording(second)
    assert (session.transport.position, session.current_id) == (0, second)
    session.seek(2 * RATE)
    session.choose_recording(second)  # it is there already
    assert session.transport.position == 2 * RATE
    session.choose_recording(first)
    assert session.transport.position == 0

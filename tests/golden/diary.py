# SPDX-License-Identifier: GPL-3.0-or-later
"""A session that writes down what each deed has changed: the project, the history, what is heard, what is said.

Everything is done on one thread after the other, nothing plays on its own, and identities are counted, so that the
same deeds write the same diary.
"""

from __future__ import annotations

import json
import re
import time
import uuid
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from enum import Enum
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Any
from unittest.mock import patch

import numpy as np
import soundfile
from tests.golden.figures import digest
from tests.golden.sounds import OTHER_RATE, RATE, spoiled, strange, voice

from pulizia.project.file import project_text
from pulizia.score.steps import make_step
from pulizia.session.events import Event
from pulizia.session.session import Session
from pulizia.session.sound_out import SimulatedOut
from pulizia.settings.as_dict import to_dict

LONGEST_WAIT_S, LONGEST_ROW = 120.0, 40
Deeds = list[tuple[str, Callable[[Session], object]]]


class StillOut(SimulatedOut):
    """An output that never takes anything: the playhead stays where a deed has put it."""

    def room(self) -> int:
        """Nothing may be written."""
        return 0


class Diary:
    """A session, and what has changed with each deed."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.rows: dict[str, Any] = {}
        self._calls: SimpleQueue[Callable[[], object]] = SimpleQueue()
        self._said: list[Any] = []
        self._events: Counter[str] = Counter()
        self._known: dict[str, Any] = {}
        self._numbers: dict[str, int] = {}
        self.session = Session(StillOut(), self._calls.put, threads=1)
        for name, event in vars(self.session.events).items():
            self._follow(name, event)
        self.settle()

    def _follow(self, name: str, event: Event[...]) -> None:
        def happened(*values: Any) -> None:
            self._events[name] += 1
            if values:
                self._said.append([name, *values])

        event.connect(happened)

    def settle(self) -> None:
        """Wait for all work, and answer it."""
        until = time.monotonic() + LONGEST_WAIT_S
        while time.monotonic() < until:
            try:
                self._calls.get_nowait()()
            except Empty:
                if not self.session.pool.busy and self._calls.empty():
                    return
                time.sleep(0.001)
        message = f"work does not end: {[job.title for job in self.session.pool.busy]}"
        raise TimeoutError(message)

    def __call__(self, words: str, deed: Callable[[Session], object]) -> None:
        """Do something, and write down what it has changed."""
        assert words not in self.rows
        self._said.clear()
        self._events.clear()
        answer = deed(self.session)
        self.settle()
        now = dict(_flat(self._state()))
        gone = object()
        changed = {key: value for key, value in now.items() if self._known.get(key, gone) != value}
        changed |= dict.fromkeys(sorted(self._known.keys() - now.keys()), "no more")
        self._known = now
        row = {"answer": digest(answer)} | changed
        often = {"pictures", "busy", "surveys", "findings", "playing"}  # how often these come depends on the clock
        row |= {"said": [*self._said], "events": {n: c for n, c in sorted(self._events.items()) if n not in often}}
        self.rows[words] = json.loads(self._plain(json.dumps(row)))

    def _plain(self, text: str) -> str:
        """Without what belongs to this run: the folder, states of files; identities as they come first."""
        text = re.sub(r"\b0{5}(?:[0-9a-f]{7}|[0-9a-f]{27})\b", self._number, text)
        return re.sub(r"\d+-[0-9a-f]+\.orders", "N.orders", text.replace(str(self.folder), "FOLDER"))

    def _number(self, identity: re.Match[str]) -> str:
        return f"#{self._numbers.setdefault(identity.group(), len(self._numbers) + 1)}"

    def _state(self) -> dict[str, Any]:
        session, document = self.session, self.session.document
        transport, assembly = session.transport, session.assembly
        project = json.loads(project_text(document.project, self.folder))
        for recording in project["recordings"]:
            del recording["absolute"]
            recording["score"] = _told(recording["score"])
        for programme in project["programmes"]:
            programme["steps"] = _told(programme["steps"])
            for lane in programme["lanes"]:
                lane["steps"], lane["clips"] = _told(lane["steps"]), [json.dumps(_bare(clip)) for clip in lane["clips"]]
        heard = session.heard_source
        history = document.history
        found: dict[str, Any] = {
            "project": project, "title": document.title, "dirty": document.is_dirty, "offline": document.offline,
            "history": len(history.labels[0]), "undo": history.undo_label or "", "redo": history.redo_label or "",
            "position": transport.position, "loop": _span(transport.loop), "speed": transport.speed,
            "plays": transport.is_playing, "marked": _span(session.marked),
            "selection": digest(session.selection), "current": session.current_id or "", "subject": session.subject_id or "",
            "step": session.step_id or "", "steps": [s.id for s in session.steps_chosen], "channels": list(session.step_channels),
            "listening": session.listening.name, "matched": session.matched, "match": digest(session.match_gain_db()),
            "pick": session.pick, "only band": session.only_band, "only channel": digest(session.only_channel),
            "heard names": list(session.heard_names), "owner": digest(session.owner and session.owner.id),
            "owner selection": digest(session.owner_selection), "owner position": session.owner_position,
            "lane": assembly.lane_id or "", "clips": sorted(assembly.clip_ids), "programme": assembly.programme_id or "",
            "scope": digest(getattr(assembly, "scope", "")), "instead": assembly.instead is not None,
            "compares": session.presets.side, "kind": session.inspection.only_kind,
            "findings": [[e.id, e.kind, e.is_gone, e.left, e.now.sentence, len(e.now.marks)] for e in session.inspection.entries()],
            "queue": [[o.name, o.path.name, o.stage.name, o.message] for o in session.queue.orders],
        }  # fmt: skip
        material = transport._material
        if heard is not None:
            found["heard"] = digest(heard.read(0, heard.frames))
        if material is not None:
            found["material"] = [
                round(material.gain, 4), material.names, material.only, digest(material.source.read(0, material.source.frames)),
            ]  # fmt: skip
        for what in ("before", "after"):
            measures = session.measures(what)
            if measures is not None:
                found[f"measured {what}"] = [
                    measures.integrated_lufs,
                    measures.true_peak_dbtp,
                    measures.loudness_range_lu,
                ]
        return found


def _told(steps: list[dict[str, Any]]) -> list[str]:
    """Steps in a line each, without what is as usual."""
    told = []
    for row in steps:
        usual = to_dict(make_step(row["tool"], {}).settings)
        own = {key: _short(value) for key, value in row["settings"].items() if usual.get(key) != value}
        told.append(json.dumps(_bare(row | {"settings": own})))
    return told


def _short(value: Any) -> Any:
    """A learned profile is told by its figures."""
    return digest(np.array(value, float)) if isinstance(value, list) and len(value) > LONGEST_ROW else value


def _bare(row: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in row.items() if value not in (None, [], {}, 0, "")}


def _span(span: Any) -> Any:
    return None if span is None else [span.start, span.stop]


def _flat(value: Any, where: str = "") -> Iterator[tuple[str, Any]]:
    """Leaves of nested rows by their places; short rows of plain values stay whole."""
    if isinstance(value, dict) and value:
        for key, part in value.items():
            yield from _flat(part, f"{where}/{key}")
    elif isinstance(value, list) and any(isinstance(part, dict) for part in value):
        for n, part in enumerate(value):
            yield from _flat(part, f"{where}/{part.get('id', n) if isinstance(part, dict) else n}")
    else:
        yield where, digest(value) if not isinstance(value, Enum) else value.name


@contextmanager
def counted_identities() -> Iterator[None]:
    """Identities that are counted from 1."""
    made = iter(range(1, 1_000_000))
    with patch.object(uuid, "uuid4", lambda: uuid.UUID(int=next(made) << 80)):
        yield


def files(folder: Path) -> dict[str, Path]:
    """Recordings of one, two and three channels."""
    made = {}
    for name, sound, rate in (
        ("one", voice(), RATE), ("two", spoiled(), RATE), ("three", strange(), OTHER_RATE),
    ):  # fmt: skip
        made[name] = folder / f"{name}.wav"
        soundfile.write(made[name], sound.T, rate, subtype="PCM_24")
    return made


def done(note: Diary, deeds: Deeds) -> dict[str, Any]:
    """Everything that a day's deeds write."""
    try:
        for words, deed in deeds:
            note(words, deed)
    finally:
        note.session.close()
    return note.rows


def s(seconds: float, rate: int = RATE) -> int:
    """Frames of seconds."""
    return round(seconds * rate)


def recording(session: Session, number: int) -> Any:
    """A recording of the project."""
    return session.document.project.recordings[number]

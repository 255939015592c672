# SPDX-License-Identifier: GPL-3.0-or-later
"""A third day: samples of noise, sections, phrases, words of other takes, microphones that are lined up, a video, a crash."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from tests.films import write_film
from tests.golden.diary import Deeds, Diary, done, files, s
from tests.golden.figures import digest
from tests.golden.sounds import RATE, voice

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.measure.same_sound import find_same
from pulizia.media.folders import state_folder
from pulizia.media.open import open_media
from pulizia.project.journal import left_behind
from pulizia.score.recipes import parse_recipe, recipe_text
from pulizia.session.heard import Listening
from pulizia.session.plan_service import Aim
from pulizia.session.session import Session
from pulizia.tools.base import Sample


def recordings(session: Session) -> Any:
    """All recordings of the project."""
    return session.document.project.recordings


def lane(session: Session, number: int) -> Any:
    """A lane of the programme."""
    return session.assembly.programme.lanes[number]


def first_clip(session: Session, number: int) -> Any:
    """The first clip of a lane."""
    return lane(session, number).clips[0]


def elsewhere(folder: Path) -> dict[str, Any]:
    """What the other two days leave out."""
    note, paths = Diary(folder), files(folder)
    late = np.concatenate([0.001 * np.random.default_rng(5).standard_normal((1, s(0.8))), 0.6 * voice()], axis=1)
    soundfile.write(folder / "late.wav", late.T, RATE, subtype="PCM_24")
    shutil.copy(paths["one"], folder / "moved.wav")
    write_film(folder / "film.mp4", np.zeros((1, 2 * RATE), np.float32), RATE, range(0, 2000, 40))
    deeds: Deeds = [
        ("open one", lambda x: x.files.open_paths([paths["one"]])),
        ("select its pause", lambda x: x.phrases.select_at(s(0.2))),
        ("learn noise", lambda x: x.repairs.take_as_noise()),
        ("look at what was learned", _survey),
        ("the next phrase", lambda x: x.phrases.go_phrase(1)),
        ("the one after", lambda x: x.phrases.go_phrase(1)),
        ("the one before", lambda x: x.phrases.go_phrase(-1)),
        ("none before", lambda x: (x.phrases.go_phrase(-1), x.phrases.go_phrase(-1))),
        ("the next pause", lambda x: x.phrases.go_pause(1)),
        ("no further pause", lambda x: [x.phrases.go_pause(1) for _ in range(9)] and None),
        ("what surveys know", lambda x: digest(x.surveys.of(x.chain.stages[x.step_id]))),
        ("harm of all steps", lambda x: digest(x.surveys.harm_of_score())),
        ("and now", lambda x: digest(x.surveys.harm_of_score())),
        ("two samples", lambda x: (x.select(s(6.2), s(6.5)), x.repairs.take_as_noise())),
        ("drop the first", lambda x: x.repairs.drop_sample(Sample(0, s(0.9), -60.0, by_hand=True))),
        ("reject a found one", lambda x: x.repairs.drop_sample(Sample(s(3.0), s(3.2), -50.0, by_hand=False))),
        ("accept it again", lambda x: x.repairs.accept_rejected()),
        ("look again", _survey),
        ("edges", lambda x: x.repairs.edges_of(x.step, x.surveys.of(x.chain.stages[x.step_id]).survey)),
        ("an edge by hand", lambda x: x.repairs.move_edge(x.step, [s(3.0)], 0, s(3.5))),
        ("too near the end", lambda x: x.repairs.move_edge(x.step, [s(3.5)], 0, s(50.0))),
        ("edges now", lambda x: x.repairs.edges_of(x.step, None)),
        ("sections found again", lambda x: x.repairs.find_sections()),
        ("a gate in a section", lambda x: (x.select(s(1.0), s(3.0)), x.repairs.add_tool("gate", on_selection=True))),
        ("everywhere", lambda x: x.document.apply_everywhere(x.current_id, x.step_id)),
        ("two at once", lambda x: x.choose_steps([t.id for t in recordings(x)[0].score])),
        ("copied", lambda x: x.steps.copy()),
        ("pasted", lambda x: x.steps.paste()),
        ("moved together", lambda x: (x.choose_steps([t.id for t in recordings(x)[0].score[2:]]), x.steps.move(-1))),
        ("dropped at the end", lambda x: x.steps.drop(recordings(x)[0].score[0].id, 4)),
        ("removed together", lambda x: (x.choose_steps([t.id for t in recordings(x)[0].score[2:]]), x.steps.remove())),
        ("nothing to remove", lambda x: (x.choose_step(None), x.steps.remove(), x.steps.toggle(), x.steps.move(1))),
        ("a recipe in place of it", lambda x: x.document.apply_recipe({x.current_id: _recipe()}, "replace")),
        ("a recipe skips what is there", lambda x: x.document.apply_recipe({x.current_id: _recipe()}, "skip")),
        ("what is heard now", lambda x: [digest(x.heard_measures), x.loudness_now()]),
        ("what is heard before", lambda x: (x.set_listening(Listening.BEFORE), digest(x.heard_measures))[1]),
        ("after", lambda x: x.set_listening(Listening.AFTER)),
        ("play around", lambda x: (x.select(s(3.0), s(4.0)), x.play_around(), x.stop_playing(), x.seek(0))),
        ("backwards", lambda x: (x.shuttle(-1), x.shuttle(-1), x.transport.speed, x.stop_playing(), x.seek(0))[2]),
        ("slowly", lambda x: (x.shuttle(1, slow=True), x.transport.speed, x.stop_playing(), x.seek(0))[1]),
        ("play and stop", lambda x: (x.play_or_stop(), x.transport.is_playing, x.play_or_stop(), x.seek(0))[1]),
        ("inspect and stop", lambda x: (x.inspection.run(), x.inspection.stop())),
        ("inspect", lambda x: x.inspection.run()),
        ("where", lambda x: [digest(x.inspection.places(x.chain.before)), len(x.inspection.current_findings(x.chain.before))]),
        ("what treats it", lambda x: [x.inspection.treating_step(e) for e in x.inspection.entries()]),
        ("a plan", lambda x: x.plans.want(x.current_id, _aim(x), lambda: None, lambda text: x.say(text, bad=True))),
        ("it is known", lambda x: [digest(x.plans.of(x.current_id, _aim(x))), digest(x.plans.counted(x.current_id, _aim(x)))]),
        ("a preset that is not allowed", lambda x: x.presets.apply("nothing")),
        ("the raw recording", lambda x: _put_back(x, folder / "late.wav", None)),
        ("in a section of it", lambda x: _put_back(x, folder / "late.wav", Span(s(2.0), s(3.0)))),
        ("relink to a copy", lambda x: x.files.relink(recordings(x)[0].id, folder / "moved.wav")),
        ("a list of markers that is none", lambda x: x.markers.take_in(folder / "nothing.txt")),
        ("markers over what is there", lambda x: (x.markers.add("a"), x.markers.export(folder / "late.wav"))),
        ("go there", lambda x: x.assembly.enter()),
        ("a take and its copy", lambda x: (x.assembly.add_recording(recordings(x)[0]), x.assembly.choose_lane(lane(x, 1).id))),
        ("the copy", lambda x: x.assembly.add_recording(recordings(x)[1], at=s(2.0))),
        ("line them up", lambda x: (x.assembly.select_all(), x.line_ups.line_up())),
        ("use the field recording", lambda x: (x.assembly.select([first_clip(x, 1).id]), x.field_recordings.use())),
        ("no, as it was", lambda x: x.document.undo()),
        ("these words again", lambda x: _words(x, put=False)),
        ("hear the end of it", lambda x: (x.words.end_hearing(), x.seek(0))),
        ("lay them down", lambda x: _words(x, put=True)),
        ("too much to look for", lambda x: (x.assembly.select_span(0, s(400.0)), x.words.look(lambda _f: None))),
        ("nothing to look for", lambda x: (x.assembly.select_span(s(60.0), s(61.0)), x.words.look(lambda _f: None))),
        ("another lane of voices", lambda x: x.assembly.add_lane("voice", "Second")),
        ("a step of the first", lambda x: (x.assembly.choose_lane(lane(x, 0).id), x.repairs.add_tool("level", on_selection=False))),
        ("and a second", lambda x: x.repairs.add_tool("limiter", on_selection=False)),
        ("move it up", lambda x: x.programme_steps.move(-1)),
        ("off", lambda x: x.programme_steps.switch()),
        ("on the other lanes", lambda x: x.programme_steps.paste_on_lanes()),
        ("away with it", lambda x: x.programme_steps.remove()),
        ("none of this kind", lambda x: (x.assembly.choose_lane(lane(x, 1).id), x.programme_steps.paste_on_lanes())),
        ("nothing to restore", lambda x: (x.assembly.select([]), x.programme_steps.restore_original())),
        ("mute twice", lambda x: x.assembly.switch_lane(lane(x, 0).id, "Solo", "soloed", on=True)),
        ("channel of a clip", lambda x: (x.assembly.select([first_clip(x, 0).id]), x.assembly.set_channel(0))),
        ("invert all lanes", lambda x: x.assembly.change_all_lanes("Flatter", height=0.5)),
        ("a film", lambda x: x.film.choose(folder / "film.mp4")),
        ("two pictures on", lambda x: (x.seek(0), x.film.step(2))),
        ("one back", lambda x: x.film.step(-1)),
        ("earlier", lambda x: (x.film.shift(3), x.film.offset_words(x.assembly.programme))[1]),
        ("where it is", lambda x: [x.film.place()[0].name, x.film.place()[1]]),
        ("no film", lambda x: x.film.remove()),
        ("a note for the mixer", _note),
        ("the table of clips", lambda x: digest(x.subject.clip_table())),
        ("a programme is delivered as", lambda x: digest([x.subject.name, x.subject.names, x.subject.seconds, x.subject.channels])),
        ("journal", lambda x: x.document.write_journal()),
        ("what a crash would leave", lambda _: [sorted(digest(found)) for found in left_behind(state_folder("journal"))]),
        ("save", lambda x: x.document.save(folder / "third.pulizia")),
        ("save beside", lambda x: x.document.save(folder / "fourth.pulizia")),
        ("open it again", lambda x: x.files.open_project(folder / "third.pulizia")),
        ("offline", lambda x: x.document.mark_offline(recordings(x)[0].id, "It is gone.")),
        ("what is offline is silent", lambda x: x.programme_out.render(folder / "silent.wav")),
    ]  # fmt: skip
    return done(note, deeds)


def _survey(session: Session) -> None:
    session.surveys.want(session.chain.stages[session.step_id])


def _recipe() -> Any:
    text = recipe_text("small", (), RATE)
    steps = '"steps": [{"tool": "hum", "settings": {}}, {"tool": "gate", "settings": {"threshold_db": -50.0}}]'
    return parse_recipe(text.replace('"steps": []', steps), "small")


def _aim(session: Session) -> Aim:
    return Aim(session.target_of(session.current_id), "gain", dual=True)


def _put_back(session: Session, path: Path, span: Span | None) -> None:
    raw, worked = open_media(path), session.chain.before
    part = worked if span is None else ArraySource(worked.read(span.start, span.stop), worked.rate)
    session.repairs.put_back(session.current_id, raw, find_same(part, raw.source), span)


def _words(session: Session, *, put: bool) -> None:
    session.assembly.choose_lane(lane(session, 0).id)
    session.assembly.select_span(s(1.6), s(2.4))

    def found(takes: Any) -> None:
        session.say(", ".join(f"{take.taken.name} {take.likeness:.2f}" for take in takes.takes))
        session.words.put(takes, 0) if put else session.words.hear(takes, 0)

    session.words.look(found)


def _note(session: Session) -> None:
    session.assembly.add_marker()
    made = session.assembly.programme.markers[-1]
    session.assembly.change_marker(made, replace(made, kind="mix", note="less room", who="Anna"))

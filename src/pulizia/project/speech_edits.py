# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of speech in a programme as pure functions: pauses are tightened and lengthened, breaths give way to room tone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from pulizia.audio.spans import Span, normalised
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project import programme_edits as edits
from pulizia.project import time_edits
from pulizia.project.clips import HIGHEST_DB, LOWEST_DB, Clip, Lane, Programme, new_clip_id
from pulizia.project.cross_fades import cross_fade
from pulizia.words import tr


@dataclass(frozen=True, slots=True)
class Taken:
    """Words of another take: its recording, the channel that is heard, and how they are fitted (see :class:`Clip`)."""

    recording_id: str
    name: str
    warp: tuple[tuple[int, int], ...]
    channel: int | None = None


def on_lane(lane: Lane, spans_of: Callable[[str], Sequence[Span]]) -> list[Span]:
    """Sections of recordings, on the programme's clock, as they are heard on a lane: cut by its clips, joined where they meet."""
    found = []
    for clip in lane.clips:
        if clip.tone or not clip.enabled:
            continue
        for span in spans_of(clip.recording_id):
            first = max(round(clip.place_of(span.start)), clip.start)
            last = min(round(clip.place_of(span.stop)), clip.stop)
            if last > first:
                found.append(Span(first, last))
    return list(normalised(found))


def _cut_smoothly(programme: Programme, begin: int, end: int, cross: int) -> Programme:
    """Take [begin, end) out of all lanes; where sound of one recording meets itself, it passes over ``cross`` frames."""
    made = time_edits.ripple_delete(programme, begin, end)
    for lane in made.lanes:
        for before, behind in pairwise(lane.clips):
            if before.stop == behind.start == begin and min(before.frames, behind.frames) > 2 * cross:
                made = cross_fade(made, behind.id, cross)
    return made


def tighten(
    programme: Programme, guarded: Sequence[Span], longest: int, cross: int, inside: Span | None = None
) -> tuple[Programme, int]:
    """Shorten every pause between phrases to ``longest`` frames; all lanes move up together.

    Parameters
    ----------
    guarded
        Phrases of the lane with the reach in which nothing is cut.
    inside
        Only pauses that touch this section.

    Returns
    -------
    The programme, and how many pauses were shortened. What lies within the reach of a word is never cut, so a pause may
    stay a little longer than asked.
    """
    made, count = programme, 0
    rows = list(guarded)
    for before, behind in reversed(list(pairwise(rows))):  # from the end: places before a cut stay
        spare = behind.start - before.stop
        if inside is not None and not inside.overlaps(before.stop, behind.start):
            continue
        over = spare - max(0, longest)
        if over <= cross:
            continue
        middle = before.stop + max(0, longest) // 2
        made, count = _cut_smoothly(made, middle, middle + over, cross), count + 1
    return made, count


def lengthen(programme: Programme, lane_id: str, frame: int, frames: int, cross: int) -> Programme:
    """Make a pause longer by ``frames`` at a frame of a lane: all lanes make room, room tone of the same recording fills it.

    Between clips, where nothing is heard on the lane, the silence becomes longer.

    ProjectError where the lane has no clip to take the room tone of.
    """
    lane = programme.lane(lane_id)
    heard = [c for c in lane.clips if not c.tone]
    near = min(heard, key=lambda c: max(c.start - frame, frame - c.stop, 0), default=None)
    if near is None:
        message = tr("This lane holds no recording to take room tone from. Choose another lane first.")
        raise ProjectError(message)
    made = time_edits.insert_time(programme, frame, frames)
    row = made.lane(lane_id).clips
    if any(c.start < frame and c.stop > frame + frames for c in row):  # room tone that became longer
        return made
    before = next((c for c in reversed(row) if c.stop == frame), None)  # of a cross-fade that ends here the later one
    behind = next((c for c in row if c.start == frame + frames), None)
    if before is None and behind is None:  # silence that became longer
        return made
    first = frame - (min(cross, edits.alone(row, before) // 2) if before is not None else 0)
    last = frame + frames + (min(cross, edits.alone(row, behind) // 2) if behind is not None else 0)
    tone = Clip(
        recording_id=near.recording_id, tone=True, start=first, inner=first, frames=last - first, name=tr("Room tone"),
        fade_in=Edge(frame - first),
    )  # fmt: skip
    clips = [
        replace(c, fade_in=Edge(last - frame - frames)) if behind is not None and c.id == behind.id else c for c in row
    ]
    return made.with_lane(made.lane(lane_id).with_clips([*clips, tone]))


def replace_with_tone(programme: Programme, lane_id: str, span: Span, cross: int) -> Programme:
    """Let room tone of the same recording stand in the place of a section of one lane; nothing moves."""
    clip = _clip_at(programme, lane_id, span)

    def tone(first: int, last: int) -> Clip:
        return Clip(
            recording_id=clip.recording_id, tone=True, start=first, inner=first, frames=last - first, gain_db=clip.gain_db,
            name=tr("Room tone"),
        )  # fmt: skip

    return _put(programme, lane_id, span, cross, tone)


def borrow(programme: Programme, lane_id: str, span: Span, taken: Taken, cross: int, gain_db: float) -> Programme:
    """Let the same words of another take stand in the place of a section of one lane, fitted moment by moment; nothing moves.

    Parameters
    ----------
    taken : what is heard there instead
    gain_db : added to the gain of what was there
    """
    clip = _clip_at(programme, lane_id, span)
    first_inner = taken.warp[0][0]
    before = min(cross, first_inner)

    def words(first: int, last: int) -> Clip:
        lead = min(span.start - first, before)
        start = span.start - lead
        return Clip(
            recording_id=taken.recording_id, start=start, inner=first_inner - lead, frames=last - start, channel=taken.channel,
            gain_db=min(max(clip.gain_db + gain_db, LOWEST_DB), HIGHEST_DB), warp=taken.warp, name=taken.name,
        )  # fmt: skip

    return _put(programme, lane_id, span, cross, words)


def _clip_at(programme: Programme, lane_id: str, span: Span) -> Clip:
    lane = programme.lane(lane_id)
    clip = next((c for c in lane.clips if c.start < span.stop and span.start < c.stop and not c.tone), None)
    if clip is None:
        message = tr("There is no clip here on this lane.")
        raise ProjectError(message)
    return clip


def _put(programme: Programme, lane_id: str, span: Span, cross: int, make: Callable[[int, int], Clip]) -> Programme:
    """What ``make`` gives for a first and a last frame in the place of a section, passing over ``cross`` frames at both ends."""
    lane = programme.lane(lane_id)
    row = lane.with_clips(edits.cleared(lane.clips, span.start, span.stop)).clips
    before = next((c for c in reversed(row) if c.stop == span.start), None)
    behind = next((c for c in row if c.start == span.stop), None)
    first = span.start - (min(cross, edits.alone(row, before) // 2) if before is not None else 0)
    last = span.stop + (min(cross, edits.alone(row, behind) // 2) if behind is not None else 0)
    made = make(first, last)
    made = replace(made, fade_in=Edge(span.start - made.start))
    clips = [replace(c, fade_in=Edge(last - span.stop)) if behind is not None and c.id == behind.id else c for c in row]
    return programme.with_lane(lane.with_clips([*clips, made]))


def checkerboard(
    programme: Programme, lane_id: str, phrases: Sequence[Span], voices: Sequence[int], names: Sequence[str]
) -> Programme:
    """Part a lane between its phrases and lay those of the second voice onto a lane of their own, at the same places.

    ``voices`` says for each phrase whose it is, 0 or 1; the cut between two voices lies in the middle of the pause.
    """
    cuts = [
        (a.stop + b.start) // 2
        for (a, b), (x, y) in zip(pairwise(phrases), pairwise(voices), strict=True)
        if x != y
    ]  # fmt: skip
    made = programme
    for cut in cuts:
        made = edits.split(made, cut, [lane_id])
    lane = made.lane(lane_id)

    def voice_of(clip: Clip) -> int:
        inside = [v for s, v in zip(phrases, voices, strict=True) if clip.start < s.stop and s.start < clip.stop]
        return inside[0] if inside else 0

    moved = [clip for clip in lane.clips if voice_of(clip) == 1]
    if not moved or len(moved) == len(lane.clips):
        message = tr("Only one voice was heard on this lane.")
        raise ProjectError(message)
    ids = {clip.id for clip in moved}
    second = replace(lane, id=new_clip_id(), name=names[1], clips=()).with_clips(moved)
    first = replace(lane, name=names[0]).with_clips(c for c in lane.clips if c.id not in ids)
    at = [known.id for known in made.lanes].index(lane_id)
    return replace(made, lanes=(*made.lanes[:at], first, second, *made.lanes[at + 1 :]))

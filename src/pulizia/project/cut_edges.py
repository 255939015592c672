# SPDX-License-Identifier: GPL-3.0-or-later
"""Short fades where a clip that has none of its own was cut out of a longer sound, so that no cut can be heard as a click.

Common practice in editing speech: every cut passes over a few milliseconds. Nothing of this is written into the clips:
a list that is exported says what the editor chose, and a cut that is moved or closed up again leaves no trace.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import pairwise

from pulizia.audio.timeline import Edge
from pulizia.project.clips import Clip, level_at
from pulizia.units import seconds_to_frames

SAME_DB = 1e-6
CUT_S = 0.005  # common practice is 2 to 10 ms: shorter than any sound of speech


class CutEdges:
    """Clips of one lane by place as they are heard.

    Where one clip ends and the next begins at the same frame, both without fades, they overlap by 5 ms around the cut,
    each with what its recording holds there; a clip that stands alone comes and goes within its own first and last 5 ms.
    As they are stay: clips that go on where the one before ended, such as those of a split, which count as one; edges at
    which the recording itself begins or ends; and every fade or overlap that was chosen.
    """

    def __init__(self, clips: Sequence[Clip], rate: int) -> None:
        self._clips, self._frames = _joined(clips), seconds_to_frames(CUT_S, rate)
        self._half = [0] * (len(self._clips) + 1)  # by how much the clips before and behind each edge are opened there
        for n, (before, behind) in enumerate(pairwise(self._clips), 1):
            if before.stop == behind.start and not before.fade_out.frames and not behind.fade_in.frames:
                self._half[n] = min(self._frames, self._free(n - 1), self._free(n)) // 2

    @property
    def spans(self) -> list[tuple[int, int]]:
        """Where each clip is heard: (first frame, frame after the last)."""
        half = self._half
        return [(c.start - half[n], c.stop + half[n + 1]) for n, c in enumerate(self._clips)]

    def clip(self, n: int, frames_of: Callable[[str], int]) -> Clip:
        """The clip of the span ``n`` as it is heard; ``frames_of`` gives a recording's frames on the programme's clock."""
        clip, before, behind = self._clips[n], self._half[n], self._half[n + 1]
        short = Edge(min(self._frames, clip.frames // 2))
        if self._comes_alone(n) and (clip.tone or clip.heard_at(clip.start) > 0):
            clip = replace(clip, fade_in=short)
        if self._goes_alone(n) and (clip.tone or clip.heard_at(clip.stop) < frames_of(clip.recording_id)):
            clip = replace(clip, fade_out=short)
        if before or behind:
            line = tuple((at + before, db) for at, db in clip.gain_line)
            clip = replace(
                clip, start=clip.start - before, inner=clip.inner - before, frames=before + clip.frames + behind,
                gain_line=line,
            )  # fmt: skip
        return clip

    def _free(self, n: int) -> int:
        """Frames of a clip that no neighbour shares."""
        first = self._clips[n - 1].stop if n else 0
        last = self._clips[n + 1].start if n + 1 < len(self._clips) else self._clips[n].stop
        clip = self._clips[n]
        return max(0, min(clip.stop, last) - max(clip.start, first))

    def _comes_alone(self, n: int) -> bool:
        clip, before = self._clips[n], self._clips[n - 1] if n else None
        if clip.fade_in.frames:
            return False
        return before is None or before.stop < clip.start or (before.stop == clip.start and before.fade_out.frames > 0)

    def _goes_alone(self, n: int) -> bool:
        clip, behind = self._clips[n], self._clips[n + 1] if n + 1 < len(self._clips) else None
        if clip.fade_out.frames:
            return False
        return behind is None or behind.start > clip.stop or (behind.start == clip.stop and behind.fade_in.frames > 0)


def _joined(clips: Sequence[Clip]) -> list[Clip]:
    """With clips that go on in the one behind them made one."""
    row: list[Clip] = []
    for clip in clips:
        if row and row[-1].stop == clip.start and _goes_on(row[-1], clip):
            line = (*row[-1].gain_line, *((at + row[-1].frames, db) for at, db in clip.gain_line))
            row[-1] = replace(row[-1], frames=row[-1].frames + clip.frames, gain_line=line, fade_out=clip.fade_out)
        else:
            row.append(clip)
    return row


def _goes_on(before: Clip, behind: Clip) -> bool:
    if before.fade_out.frames or behind.fade_in.frames or bool(before.gain_line) != bool(behind.gain_line):
        return False
    if abs(level_at(behind.gain_line, 0) - level_at(before.gain_line, before.frames)) > SAME_DB:
        return False
    return behind.inner == before.inner + before.frames and _what(before) == _what(behind)


def _what(clip: Clip) -> tuple[object, ...]:
    return (
        clip.recording_id,
        clip.tone,
        clip.channel,
        clip.gain_db,
        clip.inverted,
        clip.drift_ppm,
        clip.shift,
        clip.warp,
    )

# SPDX-License-Identifier: GPL-3.0-or-later
"""What has steps of its own: a recording, a lane of a programme, or a programme."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from pulizia.errors import ProjectError
from pulizia.project.clips import Lane, Programme
from pulizia.project.model import Project, Recording
from pulizia.score.steps import Step
from pulizia.words import tr

OwnerKind = Literal["recording", "lane", "programme"]


@dataclass(frozen=True, slots=True)
class StepOwner:
    """The steps of something with the clock on which they lie: ``frames`` at ``rate`` in all."""

    id: str
    name: str
    kind: OwnerKind
    steps: tuple[Step, ...]
    rate: int
    frames: int

    @classmethod
    def of_recording(cls, recording: Recording) -> StepOwner:
        """A recording as what has steps."""
        return cls(recording.id, recording.name, "recording", recording.score, recording.rate, recording.frames)

    @classmethod
    def of_lane(cls, lane: Lane, programme: Programme) -> StepOwner:
        """A lane as what has steps; they lie on the programme's clock."""
        return cls(lane.id, lane.name, "lane", lane.steps, programme.rate, programme.frames)

    @classmethod
    def of_programme(cls, programme: Programme) -> StepOwner:
        """A programme as what has steps."""
        return cls(programme.id, programme.name, "programme", programme.steps, programme.rate, programme.frames)

    def step(self, step_id: str) -> Step:
        """The step with this identity; KeyError when there is none."""
        for step in self.steps:
            if step.id == step_id:
                return step
        raise KeyError(step_id)


def owner_of(project: Project, owner_id: str) -> StepOwner:
    """What has this identity; ProjectError when it is no longer part of the project."""
    for recording in project.recordings:
        if recording.id == owner_id:
            return StepOwner.of_recording(recording)
    for programme in project.programmes:
        if programme.id == owner_id:
            return StepOwner.of_programme(programme)
        for lane in programme.lanes:
            if lane.id == owner_id:
                return StepOwner.of_lane(lane, programme)
    message = tr("The recording is no longer part of the project.")
    raise ProjectError(message)


def has_step(project: Project, owner_id: str, step_id: str) -> bool:
    """Whether a step is still there."""
    try:
        return any(step.id == step_id for step in owner_of(project, owner_id).steps)
    except ProjectError:
        return False


def with_steps(project: Project, owner_id: str, steps: tuple[Step, ...]) -> Project:
    """The project with other steps on a recording, a lane or a programme; ProjectError when it is not there."""
    kind = owner_of(project, owner_id).kind
    if kind == "recording":
        return project.with_recording(replace(project.recording(owner_id), score=steps))
    if kind == "programme":
        return project.with_programme(replace(project.programme(owner_id), steps=steps))
    for programme in project.programmes:
        if any(lane.id == owner_id for lane in programme.lanes):
            return project.with_programme(programme.with_lane(replace(programme.lane(owner_id), steps=steps)))
    raise AssertionError(owner_id)

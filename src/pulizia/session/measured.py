# SPDX-License-Identifier: GPL-3.0-or-later
"""What was measured of what is heard, and the target that it is meant for. No Qt."""

from __future__ import annotations

import numpy as np

from pulizia.delivery.targets import Target, all_targets
from pulizia.errors import PuliziaError
from pulizia.measure.blocks import BLOCKS_PER_SECOND
from pulizia.measure.loudness import GATING_STEP_BLOCKS, Measures
from pulizia.media.folders import config_folder
from pulizia.project.step_owner import StepOwner
from pulizia.session.document import Document
from pulizia.session.heard import Listening
from pulizia.session.heard_subject import OtherSubject
from pulizia.session.measure_service import MeasureService
from pulizia.session.selecting import Selecting
from pulizia.session.subject import Subject


class Measured(Selecting):
    """The part of a session that knows measures and targets."""

    document: Document
    listening: Listening
    other: OtherSubject | None
    current_id: str | None
    _service: MeasureService
    _targets: dict[str, Target]

    @property
    def subject_id(self) -> str | None:
        """The recording or programme that is heard."""
        raise NotImplementedError

    @property
    def subject(self) -> Subject | None:
        """What is heard, as what is delivered."""
        raise NotImplementedError

    @property
    def owner(self) -> StepOwner | None:
        """What has the score that is shown."""
        raise NotImplementedError

    def measures(self, what: str, subject_id: str | None = None) -> Measures | None:
        """Measures of a recording or programme "before" or "after" its steps, when they are known and current."""
        return self._service.of(what, subject_id or self.subject_id)

    def loudness_of(self, subject_id: str) -> float | None:
        """Loudness after the steps in LUFS, as measured now or when it was open last; None when it is not known."""
        return self._service.loudness_of(subject_id)

    @property
    def heard_measures(self) -> Measures | None:
        """Measures of what is heard; None for what was removed, which is no programme."""
        if self.listening.is_removed:
            return None
        owner = self.owner
        if (
            self.other is not None
            and self.listening is Listening.BEFORE
            and owner is not None
            and owner.kind != "programme"
        ):
            return None  # the programme without the steps of one recording or lane is not measured
        return self.measures("before" if self.listening is Listening.BEFORE else "after")

    def loudness_now(self) -> tuple[float | None, float | None]:
        """Momentary and short-term loudness at the play head in LUFS, ten times a second: the same wherever it is shown."""
        measures, subject = self.heard_measures, self.subject
        if measures is None or subject is None or not len(measures.momentary):
            return None, None
        kept = subject.kept
        place = self.transport.position
        if not kept.start <= place <= kept.stop:
            return None, None
        block = int((place - kept.start) * BLOCKS_PER_SECOND / subject.rate)
        at = min(block - block % GATING_STEP_BLOCKS, len(measures.momentary) - 1)
        momentary, short = (
            float(c[at]) if np.isfinite(c[at]) else None for c in (measures.momentary, measures.short_term)
        )
        return momentary, short

    def forget_measures(self) -> None:
        """Another project: measures of the last one are of no use."""
        self._service.forget()

    def want_measures(self, subject_id: str | None = None) -> None:
        """Measure before and after in the background, unless they are known."""
        self._service.want(subject_id or self.current_id)

    def recall_loudness(self, subject_id: str) -> None:
        """Look up what it measured when it was open last."""
        self._service.recall(subject_id)

    @property
    def targets(self) -> dict[str, Target]:
        """Shipped and own targets, as they were read last."""
        if not self._targets:
            self.read_targets()
        return self._targets

    @property
    def target(self) -> Target | None:
        """The target of what is heard; None when it is not known on this machine."""
        return self.target_of(self.subject_id)

    def target_of(self, subject_id: str | None) -> Target | None:
        """The target of a recording or programme; None when it is not known on this machine."""
        return self.targets.get(self.document.project.target_of(subject_id))

    def read_targets(self) -> None:
        """Read the target files again; damaged own ones are explained, the shipped ones stay."""
        try:
            self._targets = all_targets(config_folder("targets"))
        except PuliziaError as error:
            self._targets = all_targets()
            self.say(str(error), bad=True)

# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips brought to one loudness or peak, each by itself or all as one. No Qt."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from pulizia.measure.loudness import Measures, measure
from pulizia.project.clips import HIGHEST_DB, LOWEST_DB, Clip, Programme
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.units import format_number
from pulizia.words import tr

Aspect = Literal["loudness", "peak"]
UNITS: dict[Aspect, str] = {"loudness": "LUFS", "peak": "dBTP"}


class ClipLevels:
    """Measures the selected clips and sets their gains."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def match(self, aspect: Aspect = "loudness", level: float | None = None, *, together: bool = False) -> None:
        """Bring the selected clips to a loudness (ITU-R BS.1770, each clip by itself) or a true peak.

        Parameters
        ----------
        level
            In LUFS or dBTP; None is the one of the middle clip.
        together
            One gain for all, with which the loudest one reaches the level: their balance stays.
        """
        sound, clips = self._assembly.sound, [c for c in self._assembly.clips if c.enabled and not c.tone]
        if sound is None or not clips or (len(clips) < 2 and level is None):
            self._session.say(tr("Select two clips or more first."), bad=True)
            return

        def work(job: Job) -> list[float | None]:
            found: list[float | None] = []
            for n, clip in enumerate(clips):
                alone = sound.clip_alone(clip)
                found.append(None if alone is None else _figure(measure(alone, workers=1), aspect))
                job.progress((n + 1) / len(clips))
            return found

        def done(found: list[float | None]) -> None:
            known = [(c, value) for c, value in zip(clips, found, strict=True) if value is not None]
            if not known or (len(known) < 2 and level is None):
                self._session.say(tr("The selected clips are too short or too quiet to measure."), bad=True)
                return
            values = sorted(value for _, value in known)
            aim = values[len(values) // 2] if level is None else level
            changes = {c.id: (aim - (values[-1] if together else value)) for c, value in known}
            words = tr("Match the loudness of clips") if aspect == "loudness" else tr("Match the peak of clips")
            if self._assembly.apply(lambda p: _with_gains(p, changes), words):
                self._session.say(self._told(aspect, aim, together=together))

        self._session.job(work, tr("Measuring clips"), done)

    @staticmethod
    def _told(aspect: Aspect, aim: float, *, together: bool) -> str:
        level = f"{format_number(aim)} {UNITS[aspect]}"
        if together:
            return tr("The loudest of the selected clips is at {level}; their balance stays.", level=level)
        return tr("All selected clips are at {level}.", level=level)


def _figure(found: Measures, aspect: Aspect) -> float | None:
    return found.integrated_lufs if aspect == "loudness" else found.true_peak_dbtp


def _with_gains(programme: Programme, changes: dict[str, float]) -> Programme:
    def changed(clip: Clip) -> Clip:
        gain = round(clip.gain_db + changes[clip.id], 1)
        return replace(clip, gain_db=min(max(gain, LOWEST_DB), HIGHEST_DB))

    return programme.with_all_changed(changes, changed)

# SPDX-License-Identifier: GPL-3.0-or-later
"""The session behind a window: what all services share, and the services."""

from __future__ import annotations

from pulizia.media.folders import cache_folder, prune
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.clip_levels import ClipLevels
from pulizia.session.clip_walk import ClipWalk
from pulizia.session.core import SessionCore
from pulizia.session.cut_listening import CutListening
from pulizia.session.field_recordings import FieldRecordings
from pulizia.session.file_service import FileService
from pulizia.session.film_service import FilmService
from pulizia.session.inspection_service import InspectionService
from pulizia.session.jobs import LATER, Post
from pulizia.session.line_up_service import LineUpService
from pulizia.session.list_service import ListService
from pulizia.session.marker_service import MarkerService
from pulizia.session.microphone_service import MicrophoneService
from pulizia.session.output_protocol import SoundOut
from pulizia.session.phrase_service import PhraseService
from pulizia.session.plan_service import PlanService
from pulizia.session.preset_service import PresetService
from pulizia.session.print_service import PrintService
from pulizia.session.programme_out import ProgrammeOut
from pulizia.session.programme_steps import ProgrammeSteps
from pulizia.session.queue_service import QueueService
from pulizia.session.repair_service import RepairService
from pulizia.session.speech_service import SpeechService
from pulizia.session.step_service import StepService
from pulizia.session.survey_service import SurveyService
from pulizia.session.template_service import TemplateService
from pulizia.session.words_service import WordsService
from pulizia.words import tr

CACHE_LIMITS = {"decoded": 24 << 30, "peaks": 1 << 30, "findings": 64 << 20, "loudness": 16 << 20}


class Session(SessionCore):
    """The session behind a window. All methods are called on the interface's thread."""

    def __init__(self, output: SoundOut, post: Post = lambda call: call(), *, threads: int = 3) -> None:
        super().__init__(output, post, threads=threads)
        self.files = FileService(self)
        self.repairs = RepairService(self)
        self.markers = MarkerService(self)
        self.surveys = SurveyService(self)
        self.presets = PresetService(self)
        self.steps = StepService(self)
        self.inspection = InspectionService(self)
        self.queue = QueueService(self)
        self.prints = PrintService(self)
        self.plans = PlanService(self)
        self.assembly = AssemblyService(self)
        self.speech = SpeechService(self, self.assembly)
        self.phrases = PhraseService(self, self.speech)
        self.programme_steps = ProgrammeSteps(self, self.assembly)
        self.clip_walk = ClipWalk(self, self.assembly)
        self.cut_listening = CutListening(self, self.assembly)
        self.clip_levels = ClipLevels(self, self.assembly)
        self.microphones = MicrophoneService(self, self.assembly)
        self.field_recordings = FieldRecordings(self, self.assembly)
        self.line_ups = LineUpService(self, self.assembly)
        self.words = WordsService(self, self.assembly)
        self.film = FilmService(self, self.assembly)
        self.templates = TemplateService(self, self.assembly)
        self.lists = ListService(self, self.files, self.assembly)
        self.programme_out = ProgrammeOut(self, self.assembly)
        self.pool.submit(lambda _job: _tidy_caches(), title=tr("Tidying caches"), priority=LATER)

    def close(self) -> None:
        """Stop everything; nothing is left running."""
        self.film.close()
        super().close()


def _tidy_caches() -> None:
    for name, most_bytes in CACHE_LIMITS.items():
        prune(cache_folder(name), most_bytes)

# SPDX-License-Identifier: GPL-3.0-or-later
"""The session behind a window: a room with all its desks."""

from __future__ import annotations

from pulizia.media.folders import cache_folder, prune
from pulizia.session.assembly_desk import AssemblyDesk
from pulizia.session.clip_levels import ClipLevels
from pulizia.session.cut_listening import CutListening
from pulizia.session.field_recordings import FieldRecordings
from pulizia.session.file_desk import FileDesk
from pulizia.session.film_desk import FilmDesk
from pulizia.session.inspection_desk import InspectionDesk
from pulizia.session.jobs import LATER, Post
from pulizia.session.line_up_desk import LineUpDesk
from pulizia.session.list_desk import ListDesk
from pulizia.session.marker_desk import MarkerDesk
from pulizia.session.microphone_desk import MicrophoneDesk
from pulizia.session.output_protocol import SoundOut
from pulizia.session.phrase_desk import PhraseDesk
from pulizia.session.plan_desk import PlanDesk
from pulizia.session.preset_desk import PresetDesk
from pulizia.session.print_desk import PrintDesk
from pulizia.session.programme_out import ProgrammeOut
from pulizia.session.programme_steps import ProgrammeSteps
from pulizia.session.queue_desk import QueueDesk
from pulizia.session.repair_desk import RepairDesk
from pulizia.session.room import Room
from pulizia.session.speech_desk import SpeechDesk
from pulizia.session.step_desk import StepDesk
from pulizia.session.survey_desk import SurveyDesk
from pulizia.session.template_desk import TemplateDesk
from pulizia.session.words_desk import WordsDesk
from pulizia.words import tr

CACHE_LIMITS = {"decoded": 24 << 30, "peaks": 1 << 30, "findings": 64 << 20}


class Studio(Room):
    """The session behind a window. All methods are called on the interface's thread."""

    def __init__(self, output: SoundOut, post: Post = lambda call: call(), *, threads: int = 3) -> None:
        super().__init__(output, post, threads=threads)
        self.files = FileDesk(self)
        self.repairs = RepairDesk(self)
        self.markers = MarkerDesk(self)
        self.surveys = SurveyDesk(self)
        self.presets = PresetDesk(self)
        self.steps = StepDesk(self)
        self.inspection = InspectionDesk(self)
        self.queue = QueueDesk(self)
        self.prints = PrintDesk(self)
        self.plans = PlanDesk(self)
        self.assembly = AssemblyDesk(self)
        self.speech = SpeechDesk(self, self.assembly)
        self.phrases = PhraseDesk(self, self.speech)
        self.programme_steps = ProgrammeSteps(self, self.assembly)
        self.cut_listening = CutListening(self, self.assembly)
        self.clip_levels = ClipLevels(self, self.assembly)
        self.microphones = MicrophoneDesk(self, self.assembly)
        self.field_recordings = FieldRecordings(self, self.assembly)
        self.line_ups = LineUpDesk(self, self.assembly)
        self.words = WordsDesk(self, self.assembly)
        self.film = FilmDesk(self, self.assembly)
        self.templates = TemplateDesk(self, self.assembly)
        self.lists = ListDesk(self, self.files, self.assembly)
        self.programme_out = ProgrammeOut(self, self.assembly)
        self.pool.submit(lambda _job: _tidy_caches(), title=tr("Tidying caches"), priority=LATER)

    def close(self) -> None:
        """Stop everything; nothing is left running."""
        self.film.close()
        super().close()


def _tidy_caches() -> None:
    for name, most_bytes in CACHE_LIMITS.items():
        prune(cache_folder(name), most_bytes)

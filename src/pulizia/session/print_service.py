# SPDX-License-Identifier: GPL-3.0-or-later
"""The worked sound printed on purpose: the selection, each part between markers, or everything, with handles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Literal

from pulizia import __version__
from pulizia.audio.source import Source, SpanSource
from pulizia.audio.spans import Span
from pulizia.delivery.deliver import check_output, cut_words, write_source
from pulizia.delivery.deliverable import Deliverable, file_name
from pulizia.delivery.metadata import Metadata
from pulizia.media.ahead import made_ahead
from pulizia.media.broadcast import Broadcast, Loudness
from pulizia.media.names import free_name
from pulizia.media.open import broadcast_of, tags_of
from pulizia.project.model import Recording
from pulizia.project.programme import programme_of
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.session.queue_service import step_words
from pulizia.words import plural, tr

What = Literal["selection", "parts", "whole"]
USUAL_HANDLES_S = 1.0
PATTERN = "{name}-repaired"


@dataclass(frozen=True, slots=True)
class Part:
    """A stretch to print, with its handles, and the words that name it."""

    span: Span
    inner: Span
    name: str


def parts_of(recording: Recording, what: What, selection: Span | None, handles_s: float) -> list[Part]:
    """The stretches that are printed, each reaching ``handles_s`` further where there is sound."""
    handles, kept = round(handles_s * recording.rate), recording.kept

    def reaching(inner: Span, name: str) -> Part:
        return Part(Span(max(0, inner.start - handles), min(recording.frames, inner.stop + handles)), inner, name)

    if what == "selection":
        return [] if selection is None else [reaching(selection, recording.name)]
    if what == "whole":
        return [Part(kept, kept, recording.name)]
    inside = (m.frame for m in recording.markers if kept.start < m.frame < kept.stop)
    edges = sorted({kept.start, *inside, kept.stop})
    names = {m.frame: m.name for m in recording.markers}
    return [
        reaching(Span(a, b), f"{recording.name}-{n:02d}" + (f"-{names[a]}" if names.get(a) else ""))
        for n, (a, b) in enumerate(pairwise(edges), 1)
    ]


def provenance(recording: Recording, broadcast: Broadcast, part: Part, bits: int) -> Broadcast:
    """What the file says of where it comes from: the source's coding history (EBU R 98), and a line per step."""
    form = {"rate": recording.rate, "channels": recording.channels, "bits": bits}
    made = replace(broadcast, frames_since_midnight=broadcast.frames_since_midnight + part.span.start)
    made = made.after(tr("from {name}", name=recording.path.name), **form)
    for words in step_words(recording.score):
        made = made.after(tr("Pulizia {version} {words}", version=__version__, words=words), **form)
    return made


class PrintService:
    """Writes parts in the background."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session
        self.handles_s = USUAL_HANDLES_S  # as they were chosen last

    def paths(
        self, what: What, folder: Path, pattern: str, wanted: Deliverable, handles_s: float
    ) -> list[tuple[Part, Path]]:
        """Parts of the recording on the bench with their files; DeliveryError when the pattern is wrong."""
        recording = self.session.recording
        if recording is None:
            return []
        span = self.session.selection.span if self.session.selection else None
        steps = "-".join(step.tool_id for step in recording.score if step.enabled) or "as-is"
        made = []
        for n, part in enumerate(parts_of(recording, what, span, handles_s), 1):
            values = {"name": part.name, "steps": steps, "number": f"{n:02d}", "rate": f"{recording.rate / 1000:g}k"}
            made.append((part, folder / file_name(pattern, values, wanted.kind)))
        return made

    def write(
        self,
        what: What,
        folder: Path,
        *,
        pattern: str = PATTERN,
        wanted: Deliverable | None = None,
        handles_s: float = USUAL_HANDLES_S,
        overwrite: bool = False,
        keep_both: bool = False,
    ) -> None:
        """Print the parts into a folder; what is there already is replaced, or kept beside new names, only as asked."""
        recording, chain = self.session.recording, self.session.chain
        if recording is None or chain is None:
            return
        programme: Source = programme_of(recording, chain.after)
        wanted = wanted or Deliverable()
        made = self.paths(what, folder, pattern, wanted, handles_s)
        if keep_both:
            made = [(part, free_name(path)) for part, path in made]
        if not made:
            self.session.say(tr("Select the section to render first."), bad=True)
            return
        media = self.session.document.media[recording.id]
        broadcast = broadcast_of(media)
        bits = {"int16": 16, "int24": 24, "float32": 32}[wanted.sample_format]

        def told(job: Job, done: int, share: float) -> None:
            job.progress((done + share) / len(made))

        def work(job: Job) -> int:
            cut = 0
            for _, path in made:
                check_output(path, inputs=[recording.path], overwrite=overwrite)
            for n, (part, path) in enumerate(made):
                source = programme if what == "whole" else SpanSource(chain.after, part.span.start, part.span.stop)
                markers = [
                    m.moved(1.0, -part.span.start)
                    for m in recording.markers
                    if part.span.start <= m.frame < part.span.stop
                ]
                metadata = Metadata(
                    markers=markers,
                    broadcast=provenance(recording, broadcast, part, bits),
                    tags=tags_of(media).with_part(part.name),
                )
                with made_ahead(source) as sound:
                    cut += write_source(
                        sound, path, wanted, partial(told, job, n), metadata=metadata, loudness=Loudness()
                    )
            return cut

        def done(cut: int) -> None:
            first = made[0][1].name if len(made) == 1 else plural("1 file", "{n} files", len(made))
            self.session.say(
                tr(
                    "{first} rendered to {folder}. {cut_words}", first=first, folder=folder, cut_words=cut_words(cut)
                ).rstrip(),
                bad=bool(cut),
            )

        self.session.job(work, tr("Rendering"), done)

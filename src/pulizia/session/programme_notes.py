# SPDX-License-Identifier: GPL-3.0-or-later
"""The notes of a programme: a table for other programs, and a page to print."""

from __future__ import annotations

import html
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path

from pulizia.audio.markers import Marker, NoteKind, reels_of
from pulizia.audio.timecode import timecode
from pulizia.errors import ProjectError
from pulizia.media.write import write_text
from pulizia.project.clips import Programme
from pulizia.report.measurement_log import as_csv
from pulizia.units import format_time
from pulizia.words import N_, language_shown, moment_shown, tr, translated

KIND_WORDS: dict[NoteKind, str] = {
    "": N_("Marker"), "mix": N_("Mixer note"), "again": N_("Line to be recorded again"), "problem": N_("Problem"),
    "reel": N_("Reel"),
}  # fmt: skip
HEAD = (N_("timecode"), N_("time"), N_("length"), N_("kind"), N_("scene"), N_("who"), N_("name"), N_("note"))
STYLE = "body{font:11pt sans-serif;margin:2cm}table{border-collapse:collapse;width:100%}th,td{border-bottom:1px solid #999;padding:4px 8px;text-align:left;vertical-align:top}tr{break-inside:avoid}"


def note_rows(programme: Programme, kinds: Iterable[NoteKind] | None = None) -> list[tuple[str, ...]]:
    """Timecode, time, length, kind, scene, who, name and note of each marker of these kinds, in order; None is all."""
    wanted = None if kinds is None else set(kinds)
    found: list[tuple[str, ...]] = []
    for m in programme.markers:
        if wanted is not None and m.kind not in wanted:
            continue
        frame = programme.start_frame + int(m.frame * programme.picture_rate / programme.rate)
        code = timecode(frame, programme.picture_rate, drop=programme.drop_frame)
        frames, note = (reel_length(programme, m), reel_note(programme, m)) if m.kind == "reel" else (m.frames, m.note)
        length = format_time(frames / programme.rate, 3) if frames else ""
        kind = translated(KIND_WORDS[m.kind])
        found.append((code, format_time(m.frame / programme.rate, 3), length, kind, m.scene, m.who, m.name, note))
    return found


def _next_reel(programme: Programme, reel: Marker) -> Marker | None:
    return min((m for m in programme.markers if m.kind == "reel" and m.frame > reel.frame), default=None)


def reel_length(programme: Programme, reel: Marker) -> int:
    """Frames of a reel: its own length, or up to the next reel, or to the end of the programme."""
    return next((r.span.frames for r in reels_of(programme.markers, programme.frames) if r.span.start == reel.frame), 0)


def reel_note(programme: Programme, reel: Marker) -> str:
    """What its note says, and by how much it overlaps the next reel or leaves a gap to it."""
    following = _next_reel(programme, reel)
    over = 0 if following is None else reel.frame + reel_length(programme, reel) - following.frame
    told = ""
    if following is not None and over:
        seconds = format_time(abs(over) / programme.rate, 3)
        told = (
            tr("Overlaps {name} by {length}.", name=following.name, length=seconds)
            if over > 0
            else tr("A gap of {length} before {name}.", name=following.name, length=seconds)
        )
    return "\n".join(part for part in (reel.note, told) if part)


def notes_csv(programme: Programme, kinds: Iterable[NoteKind] | None = None) -> str:
    """The notes as a table; the first row names the columns."""
    return as_csv([tuple(translated(word) for word in HEAD), *note_rows(programme, kinds)])


def notes_html(programme: Programme, kinds: Iterable[NoteKind] | None = None) -> str:
    """The notes as one page to print, complete in itself."""
    head = _cells("th", (translated(word) for word in HEAD))
    rows = "".join(f"<tr>{_cells('td', row)}</tr>" for row in note_rows(programme, kinds))
    title = html.escape(tr("Notes of {name}", name=programme.name))
    return (
        f'<!doctype html><html lang="{language_shown()}"><meta charset="utf-8"><title>{title}</title><style>{STYLE}</style>'
        f"<h1>{title}</h1><p>{html.escape(moment_shown(datetime.now().astimezone()))}</p><table><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table></html>\n"
    )


def _cells(tag: str, row: Iterable[str]) -> str:
    return "".join(f"<{tag}>{html.escape(cell)}</{tag}>" for cell in row)


def write_notes(programme: Programme, path: Path, kinds: Iterable[NoteKind] | None = None) -> None:
    """Write the notes as the suffix says, .csv or .html; ProjectError for others, DiskError when the disk refuses."""
    made = {".csv": notes_csv, ".html": notes_html, ".htm": notes_html}.get(path.suffix.lower())
    if made is None:
        message = tr("Notes are written as .csv or .html. Choose one of these.")
        raise ProjectError(message)
    write_text(path, made(programme, kinds))

# SPDX-License-Identifier: GPL-3.0-or-later
"""What a loudness report says, as JSON and as one short HTML page."""

from __future__ import annotations

import hashlib
import html
import json
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia import __version__
from pulizia.delivery.deliver import Delivered
from pulizia.delivery.normalise import WAYS, State, Verdict
from pulizia.delivery.targets import as_table
from pulizia.measure.blocks import BLOCKS_PER_SECOND
from pulizia.report.clip_table import ClipRow, clips_content, clips_html
from pulizia.report.measurement_log import measurement_csv
from pulizia.units import db_to_gain, format_number, format_time, gain_to_db
from pulizia.words import N_, language_shown, moment_shown, plural, tr, translated

CURVE_POINTS = 600
NEAR_DB, PEAK_GAP_BLOCKS, MOST_PEAKS = 0.3, 20, 20
CURVE_LOW, CURVE_HIGH = -45.0, -5.0
WIDTH, HEIGHT = 720, 220
GATES = {
    "programme": N_("whole programme, both gates"),
    "dialogue": N_("speech only, by the program's own speech detection"),
}


def report_content(delivered: Delivered, steps: Sequence[str] = (), clips: Sequence[ClipRow] = ()) -> dict[str, Any]:
    """Everything the report says, as plain JSON values."""
    plan = delivered.plan
    return {
        "format": "pulizia-loudness-report",
        "version": 1,
        "program": tr("Pulizia {version}", version=__version__),
        "made": datetime.now().astimezone().isoformat(timespec="seconds"),
        "method": tr("ITU-R BS.1770-5, EBU Tech 3341 and 3342; {gate}; true peak with at least fourfold oversampling", gate=translated(GATES[plan.target.gate])),
        "file": delivered.path.name,
        "deliverable": delivered.deliverable.words,
        "sha256": checksum(delivered.path),
        "files": [{"file": path.name, "sha256": checksum(path)} for path in delivered.files],
        "steps": list(steps),
        "clips": clips_content(clips),
        "way": WAYS[plan.way],
        "levelled": plan.levelled,
        "speech_percent": plan.speech_percent,
        "note": plan.note,
        "cautions": [*plan.cautions, *delivered.notes],
        "whole_programme_lufs": plan.whole_lufs,
        "largest_reduction_db": plan.largest_reduction_db,
        "true_peaks_over": [{"at_s": at, "dbtp": level} for at, level in peaks_over(delivered)],
        "target": as_table(plan.target),
        "gain_db": plan.gain_db,
        "limited": plan.limited,
        "corrected_after_writing": delivered.corrected,
        "passes": delivered.passes,
        "before": plan.measured.figures(),
        "predicted": plan.predicted.figures(),
        "written_file": delivered.verified.figures(),
        "verdicts": [
            {"name": v.name, "measured": v.measured, "limit": v.limit, "state": v.state.value, "by": v.by}
            for v in delivered.verdicts
        ],
    }  # fmt: skip


def report_json(delivered: Delivered, steps: Sequence[str] = (), clips: Sequence[ClipRow] = ()) -> str:
    """The report as JSON text."""
    return json.dumps(report_content(delivered, steps, clips), indent=1) + "\n"


def report_csv(delivered: Delivered, steps: Sequence[str] = ()) -> str:
    """The log of the measurement: figures, limits, then loudness over time, ten rows a second."""
    del steps
    return measurement_csv(delivered.verified, delivered.verdicts)


def checksum(path: Path) -> str:
    """SHA-256 of a file, or "" when it is gone."""
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError:
        return ""


def peaks_over(delivered: Delivered) -> list[tuple[float, float]]:
    """Moments (seconds, dBTP) in which the written file comes within NEAR_DB of the ceiling or passes it, highest first."""
    found = delivered.verified.peak
    limit = db_to_gain(delivered.plan.target.true_peak_dbtp - NEAR_DB)
    blocks = np.flatnonzero(found >= limit)
    if not len(blocks):
        return []
    groups = np.split(blocks, np.flatnonzero(np.diff(blocks) > PEAK_GAP_BLOCKS) + 1)
    tops = [int(g[np.argmax(found[g])]) for g in groups]
    rows = [(round(n / BLOCKS_PER_SECOND, 2), round(gain_to_db(float(found[n])), 2)) for n in tops]
    return sorted(rows, key=lambda row: -row[1])[:MOST_PEAKS]


def report_html(delivered: Delivered, steps: Sequence[str] = (), clips: Sequence[ClipRow] = ()) -> str:
    """The report as one HTML page with a loudness curve, complete in itself."""
    plan, after = delivered.plan, delivered.verified
    rows = "".join(_verdict_row(v) for v in delivered.verdicts)
    figures = "".join(
        f"<tr><td>{name}</td><td>{format_number(before)}</td><td>{format_number(now)}</td><td>{unit}</td></tr>"
        for name, before, now, unit in (
            (tr("Integrated"), plan.measured.integrated_lufs, after.integrated_lufs, "LUFS"),
            (tr("Loudness range"), plan.measured.loudness_range_lu, after.loudness_range_lu, "LU"),
            (tr("Highest momentary"), plan.measured.momentary_max_lufs, after.momentary_max_lufs, "LUFS"),
            (tr("Highest short-term"), plan.measured.short_term_max_lufs, after.short_term_max_lufs, "LUFS"),
            (tr("True peak"), plan.measured.true_peak_dbtp, after.true_peak_dbtp, "dBTP"),
            (tr("Sample peak"), plan.measured.sample_peak_dbfs, after.sample_peak_dbfs, "dBFS"),
        )
    )  # fmt: skip
    content, words = report_content(delivered, steps), _words()
    applied = "".join(f"<li>{html.escape(step)}</li>" for step in steps)
    applied = f"<h2>{words['steps']}</h2><ol>{applied}</ol>" if steps else ""
    peaks = "".join(
        f"<tr><td>{format_time(at, 2)}</td><td>{format_number(level, 2)}</td></tr>"
        for at, level in peaks_over(delivered)
    )
    peaks = (
        f"<h2>{words['peaks']}</h2><table><tr><th>{words['at']}</th><th>dBTP</th></tr>{peaks}</table>" if peaks else ""
    )
    note = "".join(f"<p class='over'>{html.escape(text)}</p>" for text in (*plan.cautions, *delivered.notes))
    sentences = [tr("Gain {gain} dB.", gain=format_number(plan.gain_db, 2, plus=True))]
    sentences.append(
        tr("True peaks limited by up to {most:.1f} dB.", most=plan.largest_reduction_db)
        if plan.limited
        else tr("No limiting.")
    )
    if plan.levelled:
        sentences.append(tr("Phrases levelled by {percent:.0f} %.", percent=100 * plan.levelled))
    if plan.speech_percent is not None:
        sentences.append(tr("Speech only, {percent:.0f} % of the programme.", percent=plan.speech_percent))
    shape = plural(
        "{time}, {rate:g} kHz, 1 channel. Measured from the written file, {made}.",
        "{time}, {rate:g} kHz, {n} channels. Measured from the written file, {made}.",
        after.channels,
        time=format_time(after.duration_s, 1),
        rate=after.rate_hz / 1000,
        made=moment_shown(datetime.fromisoformat(content["made"])),
    )
    verdict = tr("Within every limit") if delivered.passes else tr("Not within every limit")
    title = html.escape(tr("Loudness of {name}", name=delivered.path.name))
    outcome = html.escape(tr("{verdict} of {target}.", verdict=verdict, target=translated(plan.target.title)))
    source = html.escape(tr("Target after {source}.", source=plan.target.source))
    return f"""<!DOCTYPE html>
<html lang="{language_shown()}"><head><meta charset="utf-8"><title>{title}</title>
<style>
body {{ font: 14px/1.45 "Source Sans 3", sans-serif; color: #1b2e3c; background: #fbf8f1; max-width: 46rem; margin: 2rem auto; padding: 0 1rem }}
h1 {{ font-size: 1.5rem; margin: 0 }} h2 {{ font-size: 1rem; margin: 1.6rem 0 .4rem }}
table {{ border-collapse: collapse; width: 100% }} td, th {{ border-bottom: 1px solid #d9d1c0; padding: .3rem .6rem .3rem 0; text-align: left }}
td:nth-child(n+2), th:nth-child(n+2) {{ text-align: right; font-variant-numeric: tabular-nums }}
.over {{ color: #a8433a; font-weight: 600 }} .within {{ color: #226660; font-weight: 600 }} .soft {{ color: #55646c }}
@media print {{ body {{ background: none }} }}
</style></head><body>
<h1>{html.escape(delivered.path.name)}</h1>
<p class="soft">{shape}</p>
<p class="{"within" if delivered.passes else "over"}">{outcome}</p>
<table><tr><th>{words["limit"]}</th><th>{words["allowed"]}</th><th>{words["written"]}</th><th>{words["verdict"]}</th></tr>{rows}</table>
<h2>{words["curve"]}</h2>
{_curve_svg(after.short_term, plan.target.integrated_lufs, after.duration_s)}
<h2>{words["figures"]}</h2>
<table><tr><th></th><th>{words["before"]}</th><th>{words["written"]}</th><th>{words["unit"]}</th></tr>{figures}</table>
<p>{" ".join(sentences)}</p>{note}
{peaks}
{applied}{clips_html(clips)}
<h2>{words["file"]}</h2>
<p>{html.escape(delivered.deliverable.words)}</p>
<p>{_files(content["files"])}</p>
<p class="soft">{html.escape(content["method"])}. {html.escape(content["program"])}. {source}</p>
</body></html>
"""


def _files(rows: Sequence[dict[str, str]]) -> str:
    return "<br>".join(f"{html.escape(row['file'])} <span class='soft'>SHA-256 {row['sha256']}</span>" for row in rows)


def _words() -> dict[str, str]:
    """Headings of the page; they are collected for translation only outside of formatted strings."""
    return {
        "steps": tr("Steps applied"), "peaks": tr("True peaks near the ceiling"), "at": tr("at"), "limit": tr("limit"), "allowed": tr("allowed"),
        "written": tr("written file"), "verdict": tr("verdict"), "curve": tr("Short-term loudness of the written file"),
        "figures": tr("Before and after"), "before": tr("before"), "unit": tr("unit"), "file": tr("File"),
    }  # fmt: skip


def _verdict_row(verdict: Verdict) -> str:
    kind = "within" if verdict.state is State.WITHIN else "over"
    decimals = 2 if verdict.state is not State.WITHIN and verdict.by < 0.1 else 1
    return (
        f"<tr><td>{html.escape(verdict.name)}</td><td>{html.escape(verdict.limit)}</td>"
        f"<td>{format_number(verdict.measured, decimals)}</td><td class='{kind}'>{html.escape(verdict.words)}</td></tr>"
    )


def _curve_svg(short_term: NDArray[np.float32], target_lufs: float, duration_s: float) -> str:
    def y(level: float) -> float:
        share = (CURVE_HIGH - min(max(level, CURVE_LOW), CURVE_HIGH)) / (CURVE_HIGH - CURVE_LOW)
        return 10 + share * (HEIGHT - 30)

    count = max(1, len(short_term) // CURVE_POINTS)
    picked = short_term[: len(short_term) // count * count].reshape(-1, count).max(axis=1)
    step = (WIDTH - 50) / max(1, len(picked) - 1)
    points = " ".join(f"{40 + n * step:.1f},{y(float(v)):.1f}" for n, v in enumerate(picked) if np.isfinite(v))
    grid = "".join(
        f'<line x1="40" x2="{WIDTH - 10}" y1="{y(db):.1f}" y2="{y(db):.1f}" stroke="#d9d1c0"/>'
        f'<text x="34" y="{y(db) + 4:.1f}" text-anchor="end">{format_number(db, 0)}</text>'
        for db in range(-40, -5, 10)
    )
    return (
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" width="100%" font-size="11" fill="#55646c">{grid}'
        f'<line x1="40" x2="{WIDTH - 10}" y1="{y(target_lufs):.1f}" y2="{y(target_lufs):.1f}" '
        'stroke="#2c7a73" stroke-width="5" opacity=".3"/>'
        f'<polyline points="{points}" fill="none" stroke="#1b2e3c" stroke-width="1.4"/>'
        f'<text x="40" y="{HEIGHT - 4}">0:00</text>'
        f'<text x="{WIDTH - 10}" y="{HEIGHT - 4}" text-anchor="end">{format_time(duration_s)}</text>'
        f'<text x="{WIDTH - 10}" y="10" text-anchor="end">LUFS</text></svg>'
    )

"""What a loudness report says, as JSON and as one short HTML page."""

from __future__ import annotations

import html
import json
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia import __version__
from pulizia.delivery.deliver import Delivered
from pulizia.delivery.normalise import State, Verdict
from pulizia.delivery.targets import as_table
from pulizia.units import format_number, format_time

CURVE_POINTS = 600
CURVE_LOW, CURVE_HIGH = -45.0, -5.0
WIDTH, HEIGHT = 720, 220


def report_content(delivered: Delivered) -> dict[str, Any]:
    """Everything the report says, as plain JSON values."""
    plan = delivered.plan
    return {
        "format": "pulizia-loudness-report",
        "version": 1,
        "program": f"Pulizia {__version__}",
        "made": datetime.now().astimezone().isoformat(timespec="seconds"),
        "method": "ITU-R BS.1770-5, EBU Tech 3341 and 3342; whole programme, both gates; "
        "true peak with at least fourfold oversampling",
        "file": delivered.path.name,
        "sample_format": delivered.sample_format,
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


def report_json(delivered: Delivered) -> str:
    """The report as JSON text."""
    return json.dumps(report_content(delivered), indent=1) + "\n"


def report_html(delivered: Delivered) -> str:
    """The report as one HTML page with a loudness curve, complete in itself."""
    plan, after = delivered.plan, delivered.verified
    rows = "".join(_verdict_row(v) for v in delivered.verdicts)
    figures = "".join(
        f"<tr><td>{name}</td><td>{format_number(before)}</td><td>{format_number(now)}</td><td>{unit}</td></tr>"
        for name, before, now, unit in (
            ("Integrated", plan.measured.integrated_lufs, after.integrated_lufs, "LUFS"),
            ("Loudness range", plan.measured.loudness_range_lu, after.loudness_range_lu, "LU"),
            ("Highest momentary", plan.measured.momentary_max_lufs, after.momentary_max_lufs, "LUFS"),
            ("Highest short-term", plan.measured.short_term_max_lufs, after.short_term_max_lufs, "LUFS"),
            ("True peak", plan.measured.true_peak_dbtp, after.true_peak_dbtp, "dBTP"),
            ("Sample peak", plan.measured.sample_peak_dbfs, after.sample_peak_dbfs, "dBFS"),
        )
    )  # fmt: skip
    content = report_content(delivered)
    limiting = f", true peaks limited by up to {plan.largest_reduction_db:.1f} dB" if plan.limited else ", no limiting"
    verdict = "Within every limit" if delivered.passes else "Not within every limit"
    return f"""<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Loudness of {html.escape(delivered.path.name)}</title>
<style>
body {{ font: 14px/1.45 "Source Sans 3", sans-serif; color: #1b2e3c; background: #fbf8f1; max-width: 46rem; margin: 2rem auto; padding: 0 1rem }}
h1 {{ font-size: 1.5rem; margin: 0 }} h2 {{ font-size: 1rem; margin: 1.6rem 0 .4rem }}
table {{ border-collapse: collapse; width: 100% }} td, th {{ border-bottom: 1px solid #d9d1c0; padding: .3rem .6rem .3rem 0; text-align: left }}
td:nth-child(n+2), th:nth-child(n+2) {{ text-align: right; font-variant-numeric: tabular-nums }}
.over {{ color: #a8433a; font-weight: 600 }} .within {{ color: #226660; font-weight: 600 }} .soft {{ color: #55646c }}
@media print {{ body {{ background: none }} }}
</style></head><body>
<h1>{html.escape(delivered.path.name)}</h1>
<p class="soft">{format_time(after.duration_s, 1)}, {after.rate_hz / 1000:g} kHz, {after.channels} channel{"s" if after.channels > 1 else ""}. Measured from the written file, {content["made"]}.</p>
<p class="{"within" if delivered.passes else "over"}">{verdict} of {html.escape(plan.target.title)}.</p>
<table><tr><th>limit</th><th>allowed</th><th>written file</th><th>verdict</th></tr>{rows}</table>
<h2>Short-term loudness of the written file</h2>
{_curve_svg(after.short_term, plan.target.integrated_lufs, after.duration_s)}
<h2>Before and after</h2>
<table><tr><th></th><th>before</th><th>written file</th><th>unit</th></tr>{figures}</table>
<p>Gain {format_number(plan.gain_db, 2, plus=True)} dB{limiting}.</p>
<p class="soft">{html.escape(content["method"])}. {html.escape(content["program"])}. Target after {html.escape(plan.target.source)}.</p>
</body></html>
"""


def _verdict_row(verdict: Verdict) -> str:
    kind = "within" if verdict.state is State.WITHIN else "over"
    decimals = 2 if verdict.state is not State.WITHIN and verdict.by < 0.1 else 1
    return (
        f"<tr><td>{verdict.name}</td><td>{verdict.limit}</td>"
        f"<td>{format_number(verdict.measured, decimals)}</td><td class='{kind}'>{verdict.words}</td></tr>"
    )


def _curve_svg(short_term: NDArray[np.float32], target_lufs: float, duration_s: float) -> str:
    def y(level: float) -> float:
        share = (CURVE_HIGH - min(max(level, CURVE_LOW), CURVE_HIGH)) / (CURVE_HIGH - CURVE_LOW)
        return 10 + share * (HEIGHT - 30)

    count = max(1, len(short_term) // CURVE_POINTS)
    picked = short_term[: len(short_term) // count * count].reshape(-1, count).max(axis=1)
    step = (WIDTH - 50) / max(1, len(picked) - 1)
    points = " ".join(
        f"{40 + n * step:.1f},{y(float(v)):.1f}" for n, v in enumerate(picked) if np.isfinite(v)
    )
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

# SPDX-License-Identifier: GPL-3.0-or-later
"""What can be chosen for the gauges."""

from __future__ import annotations

from dataclasses import dataclass

from pulizia.words import tr

RMS_TIMES_S = (0.3, 0.6, 1.0, 3.0)
VU_REFERENCES_DBFS = (-14.0, -18.0, -20.0, -22.0)
SCALES = {"dbfs": "LUFS", "ebu9": "EBU +9 (LU)", "ebu18": "EBU +18 (LU)"}
SINE_DB = 3.0103


@dataclass(slots=True)
class LevelOptions:
    """Scales and times of the gauges."""

    scale: str = "dbfs"  # of the loudness bars, see SCALES
    rms_s: float = 0.6
    rms_sine: bool = False  # a full-scale sine reads 0 instead of -3.01 dBFS
    vu_reference_dbfs: float = -18.0  # a sine of this level reads 0 VU
    ppm_kind: str = "IIa"

    @property
    def rms_words(self) -> str:
        """The scale of the RMS bars, said plainly."""
        which = tr("sine-referenced") if self.rms_sine else tr("as computed")
        return tr("RMS over {rms_s:g} s, {which}", rms_s=self.rms_s, which=which)

    def loudness_range(self, target_lufs: float) -> tuple[float, float]:
        """Lowest and highest loudness of the bars, in LUFS."""
        if self.scale == "ebu9":
            return target_lufs - 18.0, target_lufs + 9.0
        if self.scale == "ebu18":
            return target_lufs - 36.0, target_lufs + 18.0
        return -60.0, 0.0

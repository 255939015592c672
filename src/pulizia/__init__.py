# SPDX-License-Identifier: GPL-3.0-or-later
"""Pulizia: repair, measure and deliver voice recordings."""

__version__ = "0.1.0"

# SPDX-License-Identifier: GPL-3.0-or-later
"""Samples in memory, spans of frames, and what everything that sounds is."""

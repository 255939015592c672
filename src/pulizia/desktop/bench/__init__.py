# SPDX-License-Identifier: GPL-3.0-or-later
"""The Bench: one recording and its score."""

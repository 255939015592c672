# SPDX-License-Identifier: GPL-3.0-or-later
"""The Levels panel: every gauge, the loudness of the whole, and its history."""

# SPDX-License-Identifier: GPL-3.0-or-later
"""Targets, normalising, writing and verifying."""

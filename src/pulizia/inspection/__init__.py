# SPDX-License-Identifier: GPL-3.0-or-later
"""Listening through a recording for everything that the tools could mend."""

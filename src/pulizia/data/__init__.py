# SPDX-License-Identifier: GPL-3.0-or-later
"""Files that ship with the program: targets and demo recordings."""

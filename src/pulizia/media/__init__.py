# SPDX-License-Identifier: GPL-3.0-or-later
"""Sound and picture files: opening, decoding, writing."""

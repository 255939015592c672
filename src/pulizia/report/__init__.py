# SPDX-License-Identifier: GPL-3.0-or-later
"""What a report says and how it is written."""

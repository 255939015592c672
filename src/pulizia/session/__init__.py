# SPDX-License-Identifier: GPL-3.0-or-later
"""An open project behind a window, without any window."""

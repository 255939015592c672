# SPDX-License-Identifier: GPL-3.0-or-later
"""One module per tool, and the list of them."""

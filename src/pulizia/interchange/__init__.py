# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists in and out: one neutral value, a reader and a writer for each kind."""

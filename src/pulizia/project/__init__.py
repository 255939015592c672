# SPDX-License-Identifier: GPL-3.0-or-later
"""The model of a project, its file and its journal."""

# SPDX-License-Identifier: GPL-3.0-or-later
"""The place where recordings become a programme."""

# SPDX-License-Identifier: GPL-3.0-or-later
"""Published methods as pure functions on arrays."""

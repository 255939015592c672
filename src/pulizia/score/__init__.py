# SPDX-License-Identifier: GPL-3.0-or-later
"""Steps, the chain that renders them, its cache, and recipes."""

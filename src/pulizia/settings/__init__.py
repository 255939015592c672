# SPDX-License-Identifier: GPL-3.0-or-later
"""How settings are declared, checked and stored."""

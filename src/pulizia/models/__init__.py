# SPDX-License-Identifier: GPL-3.0-or-later
"""Trained models that come inside packages; nothing is ever fetched."""

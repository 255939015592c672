# SPDX-License-Identifier: GPL-3.0-or-later
"""Many files: a ledger of what is done, engines that do it (this machine's processes, or a cluster), a watched folder."""

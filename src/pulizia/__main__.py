# SPDX-License-Identifier: GPL-3.0-or-later
"""`python -m pulizia` is the command `pulizia`."""

from pulizia.cli.main import run

if __name__ == "__main__":
    run()

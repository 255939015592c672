# SPDX-License-Identifier: GPL-3.0-or-later
"""Every error a person can cause. Each message is one sentence that says what to do."""


class PuliziaError(Exception):
    """Base of all errors that are shown without a traceback."""


class UnknownNameError(PuliziaError):
    """Something was asked for by a name that is not known: wrong usage, not a fault of a file."""


class MediaError(PuliziaError):
    """A sound file cannot be opened, read or written."""


class DiskError(PuliziaError):
    """The disk refused to take or give data (full, read-only, unreachable)."""


class SettingsError(PuliziaError):
    """A tool's settings are out of range, unknown or contradictory."""


class RecipeError(PuliziaError):
    """A recipe file cannot be understood."""


class ProjectError(PuliziaError):
    """A project file cannot be understood or written."""


class DeliveryError(PuliziaError):
    """A programme cannot be delivered as asked."""


class OutputExistsError(DeliveryError):
    """A file is there already that would be written over; on the command line --overwrite allows it."""


class AnalysisError(PuliziaError):
    """A tool finds nothing usable to learn from."""


class Cancelled(Exception):  # noqa: N818 - an answer, not an error
    """Raised inside a job after its owner has asked it to stop."""


LONGEST_TOLD = 300


def brief(error: object) -> str:
    """What is wrong, as it can stand in a sentence: a damaged file may hold a value of any length."""
    told = str(error)
    return told if len(told) <= LONGEST_TOLD else f"{told[:LONGEST_TOLD]}\u2026"

# SPDX-License-Identifier: GPL-3.0-or-later
"""The opened file of each recording: also after an undo, which may bring back another file than the one that is open."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from pulizia.media.open import OpenMedia
from pulizia.project.model import Recording


class LinkedFiles:
    """Opened files by the identity of their recording."""

    def __init__(self) -> None:
        self.media: dict[str, OpenMedia] = {}
        self._named: dict[str, str] = {}  # fingerprint of the file that each recording named last, open or not
        # by recording and fingerprint: files that undo or redo may ask for, and digests of whole files
        self._aside: dict[tuple[str, str], OpenMedia] = {}
        self._digests: dict[tuple[str, str], str] = {}

    def clear(self) -> None:
        """Another project begins."""
        for known in (self.media, self._named, self._aside, self._digests):
            known.clear()

    def link(self, recording_id: str, media: OpenMedia) -> None:
        """Let a recording play this file; the one it played is kept for an undo."""
        self._put_aside(recording_id)
        self.media[recording_id], self._named[recording_id] = media, media.fingerprint

    def follow(self, recordings: Iterable[Recording]) -> list[Recording]:
        """Give each recording the file that it names; returns those that named another one until now.

        Where that file was never opened there is none then.
        """
        exchanged = []
        for recording in recordings:
            if self._named.setdefault(recording.id, recording.fingerprint) == recording.fingerprint:
                continue
            self._named[recording.id] = recording.fingerprint
            self._put_aside(recording.id)
            before = self._aside.get((recording.id, recording.fingerprint))
            if before is not None:
                self.media[recording.id] = before
            exchanged.append(recording)
        return exchanged

    def _put_aside(self, recording_id: str) -> None:
        media = self.media.pop(recording_id, None)
        if media is not None:
            self._aside[recording_id, media.fingerprint] = media

    def note_digest(self, recording_id: str, media: OpenMedia, digest: str) -> None:
        """Note the digest of all bytes of a file."""
        media.source.digest = self._digests[recording_id, media.fingerprint] = digest

    def with_digest(self, recording: Recording) -> Recording:
        """The recording with the digest of its file, where it is known."""
        digest = self._digests.get((recording.id, recording.fingerprint), recording.digest)
        return recording if digest == recording.digest else replace(recording, digest=digest)

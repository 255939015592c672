# SPDX-License-Identifier: GPL-3.0-or-later
"""Pulizia from Python: open, add steps, render, measure, inspect, deliver.

What is here stays as it is from version to version; the rest of the package may change.

>>> from pulizia import api
>>> from pathlib import Path
>>> from tempfile import TemporaryDirectory
>>> sound = api.open(api.demo_files()[0])
>>> sound.name, sound.rate, sound.channels, round(sound.seconds, 1)
('hall-of-pendulums', 48000, 1, 27.8)

Steps are those of the window and of recipes; ``api.tools()`` lists them with their settings. Nothing is worked out
before it is read, and the file is never written to.

>>> cleaner = sound.with_steps(api.step("noise", profile_spans_s=[[0.2, 1.1]]), api.step("level", peak_dbfs=-3))
>>> cleaner.read(0.0, 0.5).shape
(1, 24000)
>>> round(sound.measure().integrated_lufs, 1)
-25.3

Rendered and delivered files are written beside their names and renamed into place; one that is there is replaced
only with ``overwrite=True``.

>>> with TemporaryDirectory() as folder:
...     done = cleaner.deliver(Path(folder) / "hall.wav", "ebu-r128")
...     round(done.verified.integrated_lufs, 1), done.passes
(-23.0, True)

Everything that a person can do wrong is a ``pulizia.errors.PuliziaError`` with one sentence that says what to do.

>>> api.step("nose")
Traceback (most recent call last):
    ...
pulizia.errors.SettingsError: unknown tool nose; did you mean noise?
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from importlib.resources import files
from pathlib import Path

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.delivery.deliver import Delivered, check_output, cut_words, write_source
from pulizia.delivery.deliver import deliver as _deliver
from pulizia.delivery.deliverable import Deliverable, kind_of_path, prepared
from pulizia.delivery.normalise import Way
from pulizia.delivery.targets import target_of
from pulizia.errors import MediaError
from pulizia.inspection.inspect import inspect as _inspect
from pulizia.inspection.microphones import microphones
from pulizia.measure.loudness import Measures
from pulizia.measure.loudness import measure as _measure
from pulizia.media.broadcast import Loudness
from pulizia.media.folders import config_folder
from pulizia.project.processed import CHUNK_BYTES, Processed, processed_file
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.recipe_library import find_recipe
from pulizia.score.steps import Step, make_step
from pulizia.settings.as_dict import schema
from pulizia.tools.finding import Finding
from pulizia.tools.registry import ALL

__all__ = ["Sound", "demo_files", "open", "recipe", "step", "tools"]
Progress = Callable[[float], None]


def _quiet(_share: float, _what: str = "") -> None:
    return


@dataclass(frozen=True, slots=True)
class Sound:
    """A recording with the steps that process it; immutable.

    Made by :func:`open` and :meth:`with_steps`. Reading, measuring and writing go through the steps.
    """

    _processed: Processed
    steps: tuple[Step, ...] = ()
    _store: AnalysisStore = field(default_factory=AnalysisStore, repr=False, compare=False)

    @property
    def name(self) -> str:
        """The name of the recording."""
        return self._processed.name

    @property
    def rate(self) -> int:
        """Sample rate in Hz."""
        return self._processed.sound.rate

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self._processed.sound.channels

    @property
    def seconds(self) -> float:
        """Length."""
        return self._processed.sound.frames / self.rate

    def with_steps(self, *steps: Step | Sequence[Step]) -> Sound:
        """The same recording with further steps at the end, single ones or those of a recipe.

        >>> [s.tool_id for s in open(demo_files()[0]).with_steps(recipe("hard-s")).steps]
        ['sibilance']
        """
        flat: list[Step] = []
        for given in steps:
            flat += [given] if isinstance(given, Step) else list(given)
        return replace(self, steps=(*self.steps, *flat))

    def read(self, start_s: float = 0.0, stop_s: float | None = None) -> Samples:
        """The processed samples of a section in seconds, (channels, frames) float32; MediaError outside the recording."""
        stop_s = self.seconds if stop_s is None else stop_s
        start, stop = round(start_s * self.rate), round(stop_s * self.rate)
        if not 0 <= start <= stop <= self._processed.sound.frames:
            message = f"{self.name} is {self.seconds:.2f} s long: {start_s:g} to {stop_s:g} s does not lie inside it."
            raise MediaError(message)
        return self._source().read(start, stop)

    def measure(self, progress: Progress = _quiet) -> Measures:
        """Loudness, loudness range, true peak and levels (ITU-R BS.1770-5, EBU R 128)."""
        return _measure(self._source(), progress=progress, names=self._processed.media.channel_names)

    def inspect(self, progress: Progress = _quiet) -> list[Finding]:
        """The problems that are found, each with its places and the step that treats it."""

        def told(share: float, _what: str = "") -> None:
            progress(share)

        media = self._processed.media
        return _inspect(self._source(), told, workers=2, alone=microphones(media.source, media.channel_names))

    def render(self, path: str | Path, *, overwrite: bool = False, progress: Progress = _quiet) -> str:
        """Write the processed sound; the ending chooses the kind of file (24 bits).

        Returns a sentence where samples above full scale were cut, else "".

        Raises
        ------
        DeliveryError, DiskError
            When the file is there already, cannot be written, or the ending is unknown.
        """
        target = self._checked(path, overwrite=overwrite)
        wanted = Deliverable(kind=kind_of_path(target))
        ready = prepared(self._source(), wanted, names=self._processed.media.channel_names)
        return cut_words(
            write_source(ready, target, wanted, progress, metadata=self._processed.metadata, loudness=Loudness())
        )

    def deliver(
        self, path: str | Path, target: str, *, way: Way = "limit", overwrite: bool = False,
        progress: Progress = _quiet,
    ) -> Delivered:  # fmt: skip
        """Bring it to a loudness target, write it, and measure the written file; see `pulizia targets`.

        Raises
        ------
        DeliveryError, DiskError
            As :meth:`render`, and for targets that do not exist or cannot be reached.
        """
        output = self._checked(path, overwrite=overwrite)
        return _deliver(
            self._source(), target_of(target, config_folder("targets")), output,
            names=self._processed.media.channel_names, metadata=self._processed.metadata, way=way,
            progress=lambda share, _what: progress(share),
        )  # fmt: skip

    def _source(self) -> Source:
        chain = Chain(self._processed.sound, self.steps, ChunkCache(CHUNK_BYTES), self._store)
        chain.prepare()
        return chain.after

    def _checked(self, path: str | Path, *, overwrite: bool) -> Path:
        target = Path(path)
        check_output(target, inputs=[self._processed.recording.path], overwrite=overwrite)
        return target


def open(path: str | Path, *, recording: str | None = None) -> Sound:  # noqa: A001 - as the module is used: api.open
    """A sound or video file, or a recording of a project with its steps.

    Raises
    ------
    MediaError, ProjectError
        When it cannot be read, or a project holds several recordings and none is named.
    """
    return Sound(processed_file(Path(path), recording, _quiet))


def step(tool: str, **settings: object) -> Step:
    """A step of a tool; what is not given keeps its default. SettingsError for unknown names and values out of range."""
    return make_step(tool, settings)


def recipe(name: str, *, rate: int = 48_000) -> tuple[Step, ...]:
    """The steps of a recipe: a file, or the name of a shipped or own one. ``rate`` is that of the recording."""
    return find_recipe(name).steps_for(rate)


def tools() -> dict[str, list[dict[str, object]]]:
    """All tools by id, each with its settings: name, kind, range, default, help.

    >>> sorted(tools())[:3]
    ['areas', 'breaths', 'channels']
    """
    return {tool.id: schema(tool.settings) for tool in ALL}


def demo_files() -> list[Path]:
    """The recordings that come with the program, of an invented clock museum."""
    return sorted(Path(str(files("pulizia.data") / "demo")).glob("*.flac"))

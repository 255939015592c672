# SPDX-License-Identifier: GPL-3.0-or-later
"""Commands of the menus Listen and View."""

from __future__ import annotations

from pulizia.desktop.actions import Command
from pulizia.desktop.bars import ASSEMBLY, BENCH, DELIVERY
from pulizia.desktop.key_areas import turn
from pulizia.desktop.theme import theme, use_theme
from pulizia.desktop.window import MainWindow
from pulizia.measure.sonogram import SIZES
from pulizia.session.heard import Listening
from pulizia.words import N_, tr


def listen_commands(w: MainWindow) -> list[Command]:
    """What is heard, and how."""
    s = w.session
    has = lambda: s.heard_source is not None  # noqa: E731

    two = lambda: s.recording is not None and s.recording.channels == 2  # noqa: E731

    def swap() -> None:
        s.set_listening(Listening.BEFORE if s.listening is not Listening.BEFORE else Listening.AFTER)

    def to(place: str) -> None:
        source = s.heard_source
        if s.other is None and s.recording is not None:
            s.seek(s.recording.kept.start if place == "start" else s.recording.kept.stop)
        elif source is not None:
            s.seek(0 if place == "start" else source.frames)

    return [
        Command("play", N_("Listen"), tr("Play or stop"), ("Space",), s.play_or_stop, has),
        Command(
            "shuttle_back", N_("Listen"), tr("Play backwards, again for faster"), ("J",), lambda: w.shuttle.go(-1), has
        ),
        Command("shuttle_stop", N_("Listen"), tr("Stop; held with J or L, half speed"), ("K",), w.shuttle.hold, has),
        Command(
            "shuttle_forward", N_("Listen"), tr("Play forwards, again for faster"), ("L",), lambda: w.shuttle.go(1), has
        ),
        Command("loop", N_("Listen"), tr("Loop"), ("R",), s.toggle_loop, has, lambda: s.transport.loop is not None),
        Command(
            "play_around",
            N_("Listen"),
            tr("Play with lead-in"),
            ("Shift+Space",),
            s.play_around,
            has,
        ),
        Command(
            "loop_pause",
            N_("Listen"),
            tr("Loop with a pause"),
            ("Alt+R",),
            s.toggle_loop_pause,
            has,
            lambda: s.transport.loop_pause_s > 0,
        ),
        Command(
            "follow",
            N_("Listen"),
            tr("View follows the playhead"),
            ("Shift+F",),
            w.toggle_follow,
            has,
            lambda: w.bench.follows_head,
        ),
        Command("compare", N_("Listen"), tr("Switch Before/After"), ("B",), swap, has),
        Command(
            "before",
            N_("Listen"),
            tr("Before"),
            ("1",),
            lambda: s.set_listening(Listening.BEFORE),
            has,
            lambda: s.listening is Listening.BEFORE,
        ),
        Command(
            "after",
            N_("Listen"),
            tr("After"),
            ("2",),
            lambda: s.set_listening(Listening.AFTER),
            has,
            lambda: s.listening is Listening.AFTER,
        ),
        Command(
            "removed",
            N_("Listen"),
            tr("Removed"),
            ("3",),
            lambda: s.set_listening(Listening.REMOVED),
            has,
            lambda: s.listening is Listening.REMOVED,
        ),
        Command(
            "removed_by_step",
            N_("Listen"),
            tr("Removed by this step"),
            ("Alt+3",),
            lambda: s.set_listening(Listening.STEP),
            lambda: s.step is not None,
            lambda: s.listening is Listening.STEP,
        ),
        Command("both", N_("Listen"), tr("Both channels"), ("4",), lambda: s.set_pick(""), two, lambda: not s.pick),
        Command(
            "left", N_("Listen"), tr("Left only"), ("5",), lambda: s.set_pick("left"), two, lambda: s.pick == "left"
        ),
        Command(
            "right", N_("Listen"), tr("Right only"), ("6",), lambda: s.set_pick("right"), two, lambda: s.pick == "right"
        ),
        Command("mid", N_("Listen"), tr("Mid"), ("7",), lambda: s.set_pick("mid"), two, lambda: s.pick == "mid"),
        Command("side", N_("Listen"), tr("Side"), ("8",), lambda: s.set_pick("side"), two, lambda: s.pick == "side"),
        Command(
            "mono", N_("Listen"), tr("Mono sum"), ("9",), lambda: s.set_pick("mono"), two, lambda: s.pick == "mono"
        ),
        Command(
            "matched",
            N_("Listen"),
            tr("Matched level"),
            ("Shift+M",),
            lambda: s.set_matched(not s.matched),
            has,
            lambda: s.matched,
        ),
        Command(
            "only_band",
            N_("Listen"),
            tr("Selected band only"),
            ("Shift+O",),
            s.toggle_only_band,
            has,
            lambda: s.only_band,
        ),
        Command("go_to_time", N_("Listen"), tr("Go to time…"), ("Ctrl+G",), w.go_to_time, has),
        Command("output", N_("Listen"), tr("Sound output…"), (), w.dialogs.show_sound),
        Command("start", N_("Listen"), tr("To the start"), ("Home",), lambda: to("start"), has),
        Command("end", N_("Listen"), tr("To the end"), ("End",), lambda: to("end"), has),
        Command("back", N_("Listen"), tr("Back a little"), (tr("Left"),), lambda: s.nudge(-0.1), has),
        Command("forward", N_("Listen"), tr("Forward a little"), (tr("Right"),), lambda: s.nudge(0.1), has),
        Command("back_far", N_("Listen"), tr("Back two seconds"), ("Shift+Left",), lambda: s.nudge(-2.0), has),
        Command("forward_far", N_("Listen"), tr("Forward two seconds"), ("Shift+Right",), lambda: s.nudge(2.0), has),
    ]


def view_commands(w: MainWindow) -> list[Command]:
    """What is seen, and how."""
    axis, sonogram, wave, s = w.bench.axis, w.bench.sonogram, w.bench.waveform, w.session
    has = lambda: s.recording is not None  # noqa: E731

    def zoom(factor: float) -> None:
        x = axis.x_at(s.transport.position)
        axis.zoom(factor, x if 0 <= x <= axis.width else axis.width / 2)

    def to_selection() -> None:
        if s.selection is not None:
            axis.show_span(s.selection.span.start, s.selection.span.stop)

    def other_theme() -> None:
        name = "lamplight" if theme().name == "linen" else "linen"
        use_theme(name)
        w.preferences.set("theme", name)

    def turn_keys(by: int) -> None:
        areas = {BENCH: w.bench.key_areas, ASSEMBLY: w.assembly.key_areas, DELIVERY: w.delivery.key_areas}
        turn((w.top, *areas[w.places.currentIndex()], w.foot), by)

    def size(step: int) -> None:
        sizes = (0, *SIZES)
        at = sizes.index(sonogram.look.size) + step
        sonogram.choose(size=sizes[at % len(sizes)])
        now = sonogram.look.size
        shown = tr("transform size {now}", now=now) if now else tr("blended transform sizes")
        s.say(tr("The sonogram uses {now}.", now=shown))

    return [
        Command("bench", N_("View"), tr("Bench"), ("F2",), lambda: w.go_to(BENCH)),
        Command("delivery", N_("View"), tr("Delivery"), ("F4",), lambda: w.go_to(DELIVERY)),
        Command("assembly", N_("View"), tr("Assembly"), ("F3",), lambda: w.go_to(ASSEMBLY)),
        Command("area_next", N_("Help"), tr("Keys to the next area"), ("Ctrl+Tab",), lambda: turn_keys(1)),
        Command(
            "area_previous", N_("Help"), tr("Keys to the previous area"), ("Ctrl+Shift+Tab",), lambda: turn_keys(-1)
        ),
        Command("zoom_in", N_("View"), tr("Zoom in"), ("+", "="), lambda: zoom(1.5), has),
        Command("zoom_out", N_("View"), tr("Zoom out"), ("-",), lambda: zoom(1 / 1.5), has),
        Command("zoom_whole", N_("View"), tr("Show all"), ("0",), axis.show_whole, has),
        Command(
            "zoom_marked", N_("View"), tr("Zoom to selection"), ("Z",), to_selection, lambda: s.selection is not None
        ),
        Command("page_back", N_("View"), tr("Scroll back"), ("PgUp",), lambda: axis.scroll(-0.8 * axis.width), has),
        Command("page_on", N_("View"), tr("Scroll forward"), ("PgDown",), lambda: axis.scroll(0.8 * axis.width), has),
        Command("longer", N_("View"), tr("Sonogram: next transform size"), ("Ctrl+Shift+Right",), lambda: size(1), has),
        Command(
            "shorter", N_("View"), tr("Sonogram: previous transform size"), ("Ctrl+Shift+Left",), lambda: size(-1), has
        ),
        Command(
            "darker",
            N_("View"),
            tr("Sonogram: darker"),
            ("Ctrl+Up",),
            lambda: sonogram.set_levels(sonogram.low_db - 3, sonogram.high_db - 3),
            has,
        ),
        Command(
            "paler",
            N_("View"),
            tr("Sonogram: lighter"),
            ("Ctrl+Down",),
            lambda: sonogram.set_levels(sonogram.low_db + 3, sonogram.high_db + 3),
            has,
        ),
        Command(
            "comb",
            N_("View"),
            tr("Sonogram: harmonics at pointer"),
            ("H",),
            sonogram.toggle_comb,
            has,
            lambda: sonogram.comb,
        ),
        Command("inspect", N_("View"), tr("Inspect"), ("Ctrl+I",), w.inspect, has),
        Command("treat_all", N_("View"), tr("Treat all findings"), ("Ctrl+Shift+I",), w.treat_all, has),
        Command(
            "finding_next",
            N_("View"),
            tr("Next place of the findings"),
            (".",),
            lambda: w.bench.list.findings.walk(1),
            has,
        ),
        Command(
            "finding_previous",
            N_("View"),
            tr("Previous place of the findings"),
            (",",),
            lambda: w.bench.list.findings.walk(-1),
            has,
        ),
        Command(
            "harm",
            N_("View"),
            tr("Sonogram: show harm to the voice"),
            ("Shift+H",),
            sonogram.toggle_harm,
            has,
            lambda: sonogram.shows_harm,
        ),
        Command("figures", N_("View"), tr("Measurements…"), ("Shift+I",), w.dialogs.show_figures, has),
        Command("freeze", N_("View"), tr("Spectrum: freeze or resume"), ("F",), w.bench.freeze_spectrum, has),
        Command(
            "spectrum",
            N_("View"),
            tr("Enlarged spectrum"),
            ("S",),
            w.bench.toggle_spectrum,
            has,
            w.bench.large_spectrum.isVisible,
        ),
        Command("levels", N_("View"), tr("Levels"), ("V",), w.bench.toggle_levels, has, lambda: w.bench.shows_levels),
        Command(
            "wave_linear",
            N_("View"),
            tr("Waveform: linear amplitude"),
            ("Y",),
            lambda: wave.set_look(linear=not wave.linear),
            has,
            lambda: wave.linear,
        ),
        Command(
            "wave_rows",
            N_("View"),
            tr("Waveform: each channel in its row"),
            ("Shift+Y",),
            lambda: wave.set_look(in_rows=not wave.in_rows),
            has,
            lambda: wave.in_rows,
        ),
        Command("sonogram_menu", N_("View"), tr("Sonogram: display options…"), ("Shift+W",), sonogram.show_menu, has),
        Command("wave_larger", N_("View"), tr("Waveform: taller"), ("Ctrl+Shift+Up",), lambda: wave.enlarge(1.25), has),
        Command(
            "wave_smaller", N_("View"), tr("Waveform: less tall"), ("Ctrl+Shift+Down",), lambda: wave.enlarge(0.8), has
        ),
        Command(
            "closer_hz",
            N_("View"),
            tr("Sonogram: zoom in on frequency"),
            ("Alt+Up",),
            lambda: sonogram.zoom_band(0.8, sonogram.height() / 2),
            has,
        ),
        Command(
            "wider_hz",
            N_("View"),
            tr("Sonogram: zoom out in frequency"),
            ("Alt+Down",),
            lambda: sonogram.zoom_band(1.25, sonogram.height() / 2),
            has,
        ),
        Command(
            "theme",
            N_("View"),
            tr("Dark theme (Lamplight)"),
            ("Ctrl+L",),
            other_theme,
            checked=lambda: theme().name == "lamplight",
        ),
        Command("appearance", N_("View"), tr("Appearance…"), (), w.dialogs.choose_appearance),
        Command("language", N_("View"), tr("Language…"), (), w.dialogs.choose_language),
    ]

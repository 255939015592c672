# SPDX-License-Identifier: GPL-3.0-or-later
"""Every word of the window comes from a catalogue, the shipped ones are complete, and longer words fit."""

from __future__ import annotations

import gettext
import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime
from functools import cache
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
from babel.messages.catalog import Catalog
from PySide6.QtCore import QLocale, QModelIndex, QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QAction, QKeySequence, QPainter, QTextOption
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QComboBox,
    QFileDialog,
    QLabel,
    QMenu,
    QPushButton,
    QStyle,
    QStyleOptionComboBox,
    QTreeWidget,
    QWidget,
)
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Person
from tests.desktop.test_looks import DIALOGS, nothing_cut_off
from tests.golden.figures import variants
from tests.test_trust import load_script

from pulizia.audio.markers import from_label_list
from pulizia.audio.spans import Span
from pulizia.audio.timecode import typed_seconds
from pulizia.data.json_text import parsed
from pulizia.desktop.assembly.render_clips_dialog import RenderClipsDialog
from pulizia.desktop.bench.sonogram_menu import sonogram_menu
from pulizia.desktop.controls import ChoiceBox
from pulizia.desktop.language import catalogue_of, chosen_language, use_language
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.start import make_window
from pulizia.errors import MediaError, ProjectError, RecipeError
from pulizia.media.facts import media_facts
from pulizia.media.folders import config_folder
from pulizia.report.manual import sections, tool_page
from pulizia.score.steps import make_step
from pulizia.session.template_service import TemplateService
from pulizia.tools.registry import ALL, SHIPPED
from pulizia.units import format_clock, format_number, format_time, plain_figure
from pulizia.words import moment_shown, plural, tr, translated, use_catalogue

RATE = 48_000
OPEN, CLOSE = "\u2039", "\u203a"
WHOLE = re.compile(r"[A-Za-z]{3}")


@cache
def words() -> Catalog:
    return load_script("translate").words()


class Pseudo(gettext.NullTranslations):
    """A language of its own: every text of the catalogue between marks and 40 % longer."""

    def __init__(self) -> None:
        super().__init__()
        self.known = {form for m in words() if m.id for form in ([m.id] if isinstance(m.id, str) else m.id)}

    def gettext(self, message: str) -> str:
        if message not in self.known:
            return message
        return OPEN + message + "~" * round(0.4 * len(message)) + CLOSE

    def ngettext(self, msgid1: str, msgid2: str, n: int) -> str:
        return self.gettext(msgid1 if n == 1 else msgid2)

    def pgettext(self, context: str, message: str) -> str:
        assert words().get(message, context) is not None
        return OPEN + message + CLOSE


@pytest.fixture
def pseudo() -> Iterator[None]:
    use_catalogue(Pseudo(), ",")
    yield
    use_catalogue(None)


def shown(window: QWidget) -> Iterator[str]:
    for widget in window.findChildren(QWidget):
        yield widget.toolTip()
        yield widget.accessibleName()
        if isinstance(widget, QLabel | QAbstractButton):
            yield widget.text()
        if isinstance(widget, QComboBox):
            yield from (widget.itemText(n) for n in range(widget.count()))
        elif isinstance(widget, QAbstractItemView):
            yield from entries(widget, QModelIndex())
    yield from (action.text() for action in window.findChildren(QAction))


def entries(view: QAbstractItemView, parent: QModelIndex) -> Iterator[str]:
    """Every entry of a list or a tree."""
    model = view.model()
    for row in range(model.rowCount(parent)):
        for column in range(2 if isinstance(view, QTreeWidget) else 1):
            yield str(model.index(row, column, parent).data() or "")
        yield from entries(view, model.index(row, 0, parent))


class Painted(NamedTuple):
    texts: set[str]
    cut: set[str]


@pytest.fixture
def painted(monkeypatch: pytest.MonkeyPatch) -> Painted:
    """Every text that a view paints, and those that do not fit the box they are painted in."""
    found = Painted(set(), set())
    draw = QPainter.drawText

    def keep(painter: QPainter, *arguments: object) -> object:
        texts = [a for a in arguments if isinstance(a, str)]
        found.texts.update(texts)
        box = arguments[0]
        if isinstance(box, QRectF | QRect) and len(texts) == 1 and "\u2026" not in texts[0]:
            flags = int(arguments[1]) if not isinstance(arguments[1], QTextOption) else 0
            wraps = flags & Qt.TextFlag.TextWordWrap.value
            if not wraps and painter.fontMetrics().horizontalAdvance(texts[0]) > box.width() + 3:
                found.cut.add(texts[0])
        return draw(painter, *arguments)

    monkeypatch.setattr(QPainter, "drawText", keep)
    return found


def cut_texts(window: QWidget) -> Iterator[str]:
    """Texts of widgets that do not fit, and widgets that lie outside what can be seen."""
    for widget in window.findChildren(QWidget):
        if isinstance(widget, ChoiceBox) and widget.isVisible():
            option = QStyleOptionComboBox()
            widget.initStyleOption(option)
            field = QStyle.SubControl.SC_ComboBoxEditField
            room = widget.style().subControlRect(QStyle.ComplexControl.CC_ComboBox, option, field, widget).width()
            long = widget.fontMetrics().horizontalAdvance(widget.currentText())
            if long > room + 3:
                yield f"choice {widget.currentText()} {long} > {room}"
        if not widget.isVisible() or not isinstance(widget, QLabel | QAbstractButton) or not widget.text():
            continue
        text, width = widget.text(), widget.width()
        if isinstance(widget, QLabel):
            long = max(widget.fontMetrics().horizontalAdvance(line) for line in text.split("\n"))
            if long > width + 1 if not widget.wordWrap() else widget.heightForWidth(width) > widget.height() + 2:
                yield f"label {text} {long} > {width}"
        elif widget.sizeHint().width() > width + 1:
            yield f"button {text} {widget.sizeHint().width()} > {width}"
        view = widget.parentWidget()
        while view is not None and not isinstance(view, QAbstractScrollArea):
            view = view.parentWidget()
        frame = view.viewport() if view is not None else window
        right = widget.mapTo(frame, QPoint(width, 0)).x() if frame.isAncestorOf(widget) else 0
        if right > frame.width() + 1:
            yield f"outside {text} {right} > {frame.width()}"


def unmarked(text: str) -> str:
    """What of a text is not from the catalogue; a mark that was cut off reaches to the end."""
    while (less := re.sub(f"{OPEN}[^{OPEN}{CLOSE}]*({CLOSE}|\u2026|$)", "", text)) != text:
        text = less
    return text


def cut_at_rest(person: Person) -> set[str]:
    """Texts that do not fit, once the window has had the turns that it needs to lay out what came last."""
    for _ in range(100):
        if not (cut := set(cut_texts(person.window))):
            break
        person.bot.wait(20)
    return cut


NAMES = re.compile(
    r"^(1|10|32|44.1|48|96) kHz|\b48\skHz|^take, |LUFS|LKFS|^RMS$|^LRA$|^PLR$|dBFS|dBTP|^Pulizia|^take(\.wav|  .*( dB|…))?$|^default$|^pulse$|^(Deutsch|English|Italiano)$|^Mono$|simulated|^\{name\}"
)
"""Units, abbreviations of the standards, names, and the pattern of a file name: the same in every language."""


@pytest.mark.slow
def test_every_text_is_in_the_catalogue_and_fits_when_it_is_longer(
    pseudo: None, painted: Painted, qtbot: QtBot, qapp, voice_file: Path
) -> None:
    window, poster = make_window(simulated=True)
    window.files.asks = False
    qtbot.addWidget(window)
    person = Person(qtbot, window)
    window.resize(1280, 800)
    window.show()
    person.open(voice_file)
    texts, cut = set(shown(window)), set[str]()
    window.go_to(2)
    person.settle()
    qtbot.waitUntil(lambda: window.session.measures("after") is not None, timeout=20_000)
    person.settle()
    cut |= cut_at_rest(person)
    window.go_to(1)
    texts |= set(shown(window))
    window.assembly.add_all()
    window.session.assembly.set_gain(-3.0)
    for chosen in ((), {c.id for c in window.session.assembly.clips}):
        window.session.assembly.select(chosen)
        person.settle()
        texts |= set(shown(window))
        cut |= cut_at_rest(person)
    window.go_to(0)
    for tool in ALL:
        window.session.repairs.add_tool(tool.id, on_selection=False)
        person.settle()
        texts |= set(shown(window))
        cut |= cut_at_rest(person)
    for door in (
        "choose_recipe", "save_recipe", "show_print", "edit_target", "show_sound", "show_figures", "find_original",
        "show_storage", "show_keys", "choose_language", "show_help",
    ):  # fmt: skip
        getattr(window.dialogs, door)()
        person.settle()
    menus = window.bench.spectrum.menu(), sonogram_menu(window.bench.sonogram, window)
    assert sum(len(m.actions()) for m in menus) > 15
    window.go_to(2)
    for measuring in (window.delivery.measuring.show_all, window.delivery.measuring.show_readings):
        measuring()
        person.settle()
        texts |= set(shown(window))
    window.go_to(0)
    window.actions_.actions["levels"].trigger()
    person.settle()
    texts |= set(shown(window)) | painted.texts
    assert any("momentary" in text for text in painted.texts)
    commands = set(window.actions_.actions.values())
    assert {a for m in window.actions_.menu().findChildren(QMenu) for a in m.actions()} >= commands
    table = window.actions_.key_table()
    assert len(table) == len(commands)
    texts -= {keys for _subject, _id, _words, keys in table}  # the toolkit's names of keys
    assert len(texts) > 600
    assert not {t for t in texts if WHOLE.search(unmarked(t)) and not NAMES.search(unmarked(t).strip())}
    assert not cut
    assert not painted.cut
    window.close()
    poster.close()


@pytest.mark.slow
def test_the_shipped_catalogues_are_complete() -> None:
    assert load_script("translate").check() == []


@pytest.fixture
def english() -> Iterator[None]:
    yield
    use_language("en")


def test_a_language_brings_its_words_its_plurals_its_manual_and_its_figures(qapp, english: None) -> None:
    assert use_language("de_AT") == ""
    assert tr("Bench") == "Werkbank"
    assert tr("Noise floor") == "Grundrauschen"
    assert plural("1 area", "{n} areas", 1) == "1 Bereich"
    assert plural("1 area", "{n} areas", 12) == "12 Bereiche"
    assert format_number(-12.5) == "\u221212,5"
    assert (format_time(83.25, 2), format_clock(3683.4)) == ("1:23,25", "01:01:23,400")
    assert float(typed_seconds("1:23,25")) == 83.25  # what is shown can be typed
    assert tr("{low:g} to {high:g}{unit}", low=0.5, high=2.0, unit=" s") == "0,5 bis 2 s"
    assert QLocale().decimalPoint() == ","
    assert moment_shown(datetime(2026, 3, 4, 15, 6).astimezone()) == "04.03.26 15:06"
    assert QKeySequence("Ctrl+D").toString(QKeySequence.SequenceFormat.NativeText) == "Strg+D"
    assert "Wählen Sie" in tool_page("noise")
    assert "| **Absenkung** |" in tool_page("noise")
    assert {"Sonogramm", "Einstellungen eines Schritts"} <= set(sections("bench"))
    assert use_language("it") == ""
    assert tr("Learn noise") == "Apprendi rumore"
    (interview,) = (t for t in TemplateService.known() if t.name == "Intervista a due")
    assert [lane.name for lane in interview.lanes][:2] == ["Oratore 1", "Oratore 2"]  # what is made of it is called so
    assert tr("a text that no catalogue holds") == "a text that no catalogue holds"
    assert use_language("en_GB") == ""
    assert format_number(-12.5) == "\u221212.5"
    assert format_time(83.25, 2) == "1:23.25"


@pytest.fixture(params=["de", "it"])
def spoken(request: pytest.FixtureRequest, english: None, qapp) -> str:
    use_language(request.param)
    return request.param


def test_the_dialog_for_files_speaks_the_language_too(spoken: str, qtbot: QtBot) -> None:
    def words() -> list[str]:
        dialog = QFileDialog()
        qtbot.addWidget(dialog)
        dialog.setOption(QFileDialog.Option.DontUseNativeDialog)
        dialog.setFileMode(QFileDialog.FileMode.ExistingFiles)
        shown = [*dialog.findChildren(QLabel), *dialog.findChildren(QPushButton)]
        return [w.text() for w in shown if w.text()]

    there = words()
    use_language("en")
    english = words()
    assert len(english) > 4
    assert not set(there) & set(english)


def test_longer_words_fit_into_the_least_window_and_the_settings_are_in_view(spoken: str, bench: Person) -> None:
    window, session = bench.window, bench.window.session
    window.resize(1100, 700)
    bench.settle()
    session.repairs.add_tool("noise", on_selection=False)
    session.select(RATE, 2 * RATE, (400.0, 2000.0))
    bench.settle()
    nothing_cut_off(bench, window)
    first = window.bench.sheet.body.controls["reduction_db"]
    room = window.bench.sheet.parentWidget()
    assert room.rect().contains(QRect(first.mapTo(room, QPoint()), first.size()))
    row = window.bench.bar
    offered = [made for made in row.findChildren(QAbstractButton) if made.text() not in ("", "\u2026")]
    hidden = [made.text() for made in offered if made.isHidden()]
    assert 0 < len(hidden) < len(offered)
    window.resize(1600, 900)
    bench.settle()
    assert not any(made.isHidden() for made in offered)
    window.resize(1100, 700)
    bench.settle()
    (rest,) = (made for made in row.findChildren(QAbstractButton) if made.text() == "\u2026")
    bench.bot.mouseClick(rest, Qt.MouseButton.LeftButton)
    (menu,) = (m for m in row.findChildren(QMenu) if m.isVisible())
    assert [a.text() for a in menu.actions()] == hidden
    menu.actions()[-1].trigger()  # the original in the selection
    menu.close()
    (step,) = session.recording.score
    assert step.holes == (Span(RATE, 2 * RATE),)
    seen = 0
    for place, commands in (
        (0, ("levels", "spectrum")), (1, ("programme_levels", "programme_spectrum", "programme_all")), (2, ()),
    ):  # fmt: skip
        window.go_to(place)
        if place == 1:
            window.assembly.add_all()
        for name in (None, *commands):
            if name is not None:
                window.actions_.actions[name].trigger()
            bench.settle()
            assert cut_at_rest(bench) == set()
            seen += 1
    assert seen == 8
    for door, name in DIALOGS:
        getattr(window.dialogs, door)()
        dialog = getattr(window.dialogs, name)
        bench.until(dialog.isVisible)
        bench.settle()
        nothing_cut_off(bench, dialog)
        dialog.reject()


def test_empty_places_first_steps_and_messages_fit_the_least_window(
    spoken: str, person: Person, voice_file: Path
) -> None:
    window, session = person.window, person.window.session
    window.resize(1100, 700)
    window.show_first_steps()
    for place in (0, 1, 2):
        window.go_to(place)
        person.settle()
        assert cut_at_rest(person) == set()
        for words in (12, 16, 20, 30):
            session.say(" ".join(["Wort", "parola"] * words), bad=True)
            person.settle()
            assert cut_at_rest(person) == set()
        session.say("")
    window.go_to(0)
    person.open(voice_file)
    session.inspection.run()
    person.settle()
    assert cut_at_rest(person) == set()  # ticks stand before what was done
    dialog = RenderClipsDialog(session, window, Path())
    dialog.show()
    person.settle()
    assert set(cut_texts(dialog)) == set()
    dialog.reject()


def test_a_programme_within_its_limits_is_told_so(spoken: str, bench: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    window, session = bench.window, bench.window.session
    window.go_to(2)
    bench.until(lambda: session.measures("after") is not None)
    lufs = session.measures("after").integrated_lufs
    wide = replace(session.target, integrated_lufs=lufs, tolerance_lu=1.0, true_peak_dbtp=20.0)
    for target, end in (
        (wide, tr("within every limit")),
        (replace(wide, integrated_lufs=lufs - 9.0), tr("{amount} over", amount="8,0 LU")),
    ):
        monkeypatch.setattr(type(session), "target", target)
        window.delivery.measuring.show_all()
        assert window.delivery.measuring.table.rows[0][-1].endswith(end)
        window.delivery.measuring.table.reject()


def test_what_a_step_says_of_itself_is_in_the_language_of_the_window(english: None) -> None:
    said = {}
    for language in ("en", "de", "it"):
        use_language(language)
        for tool in SHIPPED:
            for name, chosen in variants(tool):
                said[language, tool.id, name] = tool.caption(make_step(tool.id, chosen).settings)
    use_language("en")
    plain = [key for key, text in said.items() if key[0] == "en" and WHOLE.search(text)]
    assert len(plain) > 60
    same = [key for key in plain if said[key] in (said["de", *key[1:]], said["it", *key[1:]])]
    assert same == []


def test_what_is_wrong_with_a_file_is_told_in_the_language_of_the_window(english: None, tmp_path: Path) -> None:
    empty = tmp_path / "empty.mov"
    empty.write_bytes(b"nothing")
    use_language("de")
    with pytest.raises(MediaError, match=r"empty\.mov ist nicht lesbar"):
        media_facts(empty)
    with pytest.raises(RecipeError, match=r"ist beschädigt: sie ist zu tief verschachtelt\. Wählen Sie ein Rezept"):
        parsed("[" * 100 + "]" * 100, "x.json", RecipeError, tr("Choose a recipe."))
    with pytest.raises(ProjectError, match="Zeile 2 der Liste hat keine Zeit"):
        from_label_list("1\t2\tA\nB", 48_000)


def test_what_is_wrong_with_a_language_is_told_and_the_window_is_english(english: None) -> None:
    for name in ("xx", "../../etc", "de/../de", "\0"):
        assert "no catalogue" in use_language(name)
        assert tr("Bench") == "Bench"
    own = config_folder("locale") / "fr" / "LC_MESSAGES" / "pulizia.mo"
    own.parent.mkdir(parents=True)
    good = catalogue_of("de").read_bytes()
    rng = np.random.default_rng(5)
    damaged = [b"", b"\xde\x12\x04\x95", good[:1000], good[:-9], b"x" * 400]
    for _ in range(40):
        made = bytearray(good)
        for at in rng.integers(0, len(made), 30):
            made[at] = rng.integers(0, 256)
        damaged.append(bytes(made))
    for content in damaged:
        own.write_bytes(content)
        told = use_language("fr")
        assert told == "" or "cannot be read" in told
        assert tr("Bench")
        assert tr("{n} markers written to {name}.", n=3, name="x")
    own.write_bytes(good)
    assert use_language("fr_CA") == ""
    assert tr("Bench") == "Werkbank"  # the user's own catalogue is taken up


def test_a_field_that_a_translation_gets_wrong_does_not_lose_the_sentence() -> None:
    class Wrong(gettext.NullTranslations):
        def gettext(self, message: str) -> str:
            return "{nane} ist weg"

    use_catalogue(Wrong())
    try:
        assert tr("{name} is gone", name="a.wav") == "a.wav is gone"
        assert translated("anything") == "{nane} ist weg"
    finally:
        use_catalogue(None)


def test_the_chosen_language_is_kept_for_the_next_start(qtbot: QtBot, qapp, monkeypatch: pytest.MonkeyPatch) -> None:
    window, poster = make_window(simulated=True)
    window.files.asks = False
    qtbot.addWidget(window)
    window.show()
    window.actions_.actions["language"].trigger()
    dialog = window.dialogs.language
    titles = [dialog.box.itemText(n) for n in range(dialog.box.count())]
    assert titles[:4] == ["Language of the system", "English", "Deutsch", "Italiano"]
    dialog.box.setCurrentIndex(2)
    dialog.save()
    window.close()
    poster.close()
    monkeypatch.setenv("PULIZIA_LANGUAGE", "it_IT.UTF-8")
    assert chosen_language(Preferences().text("language", "system")) == "de"
    assert chosen_language("system") == "it_IT"


@pytest.mark.parametrize(
    ("told", "language"),
    [
        ({"LANG": "de_AT.UTF-8"}, "de_AT"),
        ({"LANG": "it_IT@euro", "LC_MESSAGES": "de_DE.UTF-8"}, "de_DE"),
        ({"LANG": "de_DE.UTF-8", "LC_ALL": "C.UTF-8", "LANGUAGE": "it"}, "en"),
        ({"LANG": "de_DE.UTF-8", "LANGUAGE": "fr_CH:it:de"}, "it"),
        ({"LANG": "de_DE.UTF-8", "LANGUAGE": "en_GB:de"}, "en_GB"),
        ({"LANG": "fr_FR.UTF-8"}, "en"),  # there are no French words, and nobody asked for more than the system's
        ({"PULIZIA_LANGUAGE": "fr_FR.UTF-8", "LANG": "de_DE.UTF-8"}, "fr_FR"),
        ({"LC_CTYPE": "de_DE.UTF-8", "LANG": "en_US.UTF-8"}, "en_US"),
        ({}, "en"),
    ],
)
def test_the_language_of_the_system_is_read_as_other_programs_read_it(
    monkeypatch: pytest.MonkeyPatch, told: dict[str, str], language: str
) -> None:
    for name in ("PULIZIA_LANGUAGE", "LANGUAGE", "LC_ALL", "LC_MESSAGES", "LC_CTYPE", "LANG"):
        monkeypatch.delenv(name, raising=False)
    for name, value in told.items():
        monkeypatch.setenv(name, value)
    assert chosen_language("system") == language


def test_longer_words_under_the_spectrum_leave_the_plot_its_room(qtbot: QtBot, qapp, english: None) -> None:
    use_language("de")
    window, poster = make_window(simulated=True)
    window.files.asks = False
    qtbot.addWidget(window)
    window.resize(1280, 800)
    with qtbot.waitExposed(window):
        window.show()
    view = window.bench.spectrum
    parts = [view.plot.geometry(), view.read_out.geometry(), view.freeze_button.geometry(), view._options.geometry()]
    assert parts[3].top() > parts[2].bottom()  # two rows of buttons
    for upper, lower in pairwise(parts):
        assert upper.bottom() < lower.top()
    assert parts[3].bottom() < view.height()
    window.close()
    poster.close()


def test_what_programs_read_keeps_the_point(english: None) -> None:
    use_language("de")
    assert plain_figure(format_number(-12.5)) == "-12.5"
    assert plain_figure("Aufnahme 1,5") == "Aufnahme 1,5"

# SPDX-License-Identifier: GPL-3.0-or-later
"""The recipe library: shipped and own ones, applied to one recording or to all."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.controls import ChoiceBox, button, label
from pulizia.desktop.table_dialog import TableDialog
from pulizia.errors import PuliziaError
from pulizia.media.folders import config_folder
from pulizia.media.write import write_text
from pulizia.project.model import Project
from pulizia.score.recipe_library import keep_recipe, own_recipes, shipped_recipes
from pulizia.score.recipes import Recipe, recipe_text
from pulizia.session.session import Session
from pulizia.tools.registry import tool_of
from pulizia.units import format_time
from pulizia.words import plural, tr, translated


class RecipesDialog(QDialog):
    """Choose, apply to the recordings that are ticked, take in, give out, remove."""

    def __init__(self, session: Session, parent: QWidget, picked: frozenset[str] = frozenset()) -> None:
        super().__init__(parent)
        self.session, self._window = session, parent
        self.setWindowTitle(tr("Recipes"))
        self.resize(820, 500)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Recipes"), 20, bold=True))
        row = QHBoxLayout()
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Recipes"))
        self.list.setFixedWidth(220)
        self.list.currentItemChanged.connect(lambda _new, _old: self._show())
        row.addWidget(self.list)
        self.words = label("", 13, wrap=True)
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        right = QVBoxLayout()
        right.addWidget(self.words, 1)
        self._open = QVBoxLayout()
        right.addLayout(self._open)
        self.places: dict[tuple[int, str], ChoiceBox] = {}
        row.addLayout(right, 1)
        row.addLayout(self._build_targets(picked or frozenset({session.current_id or ""})))
        column.addLayout(row, 1)
        row = QHBoxLayout()
        row.addWidget(
            button(tr("Import…"), self._ask_in, tip=tr("Import recipe files into your own folder"), quiet=True)
        )
        self.out_button = button(tr("Export…"), self._ask_out, tip=tr("Export the recipe to a file"), quiet=True)
        row.addWidget(self.out_button)
        self.remove_button = button(tr("Remove"), self._remove, tip=tr("Delete this recipe"), quiet=True)
        row.addWidget(self.remove_button)
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.reject))
        self.apply_button = button(
            tr("Apply"), self.apply, tip=tr("Give the ticked recordings the steps; one undo takes them back"), main=True
        )
        row.addWidget(self.apply_button)
        column.addLayout(row)
        self.fill()

    def _build_targets(self, picked: frozenset[str]) -> QVBoxLayout:
        """Which recordings get the steps, and what becomes of equal steps that are there."""
        column = QVBoxLayout()
        column.addWidget(label(tr("Apply to"), 12, token="soft"))
        self.targets = QListWidget()
        self.targets.setAccessibleName(tr("Recordings that get the steps"))
        self.targets.setFixedWidth(210)
        for recording in self.session.document.project.recordings:
            item = QListWidgetItem(recording.name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if recording.id in picked else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, recording.id)
            self.targets.addItem(item)
        self.targets.itemChanged.connect(lambda _item: self._show_count())
        column.addWidget(self.targets, 1)
        every = button(tr("All recordings"), self.tick_all, tip=tr("Tick every recording, or none"), quiet=True)
        column.addWidget(every, alignment=Qt.AlignmentFlag.AlignLeft)
        column.addWidget(label(tr("Where the same tool is there"), 12, token="soft"))
        self.same = ChoiceBox()
        self.same.setAccessibleName(tr("Where the same tool is there"))
        for words, name in (
            (tr("replace its settings"), "replace"), (tr("keep what is there"), "keep"), (tr("add a second step"), "add"),
        ):  # fmt: skip
            self.same.addItem(words, name)
        column.addWidget(self.same)
        return column

    @property
    def ticked(self) -> tuple[str, ...]:
        """The recordings that get the steps."""
        items = (self.targets.item(n) for n in range(self.targets.count()))
        return tuple(i.data(Qt.ItemDataRole.UserRole) for i in items if i.checkState() is Qt.CheckState.Checked)

    def tick_all(self) -> None:
        """Tick every recording; none when all are."""
        every = len(self.ticked) == self.targets.count()
        for n in range(self.targets.count()):
            self.targets.item(n).setCheckState(Qt.CheckState.Unchecked if every else Qt.CheckState.Checked)

    def _show_count(self) -> None:
        self.apply_button.setEnabled(self.name in self.recipes and bool(self.ticked))

    def fill(self, chosen: str = "") -> None:
        """List own recipes, then shipped ones."""
        self.recipes: dict[str, tuple[Recipe, bool]] = {n: (r, True) for n, r in own_recipes().items()}
        for name, recipe in shipped_recipes().items():
            self.recipes.setdefault(name, (recipe, False))
        self.list.clear()
        for name, (recipe, own) in self.recipes.items():
            item = QListWidgetItem(tr("{name}  (own)", name=recipe.name) if own else translated(recipe.name))
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.list.addItem(item)
            if name == chosen:
                self.list.setCurrentItem(item)
        if self.list.currentRow() < 0 and self.list.count():
            self.list.setCurrentRow(0)

    @property
    def name(self) -> str:
        """The chosen recipe's short name."""
        if self.list.currentRow() < 0:
            return ""
        return str(self.list.currentItem().data(Qt.ItemDataRole.UserRole))

    def choose(self, name: str) -> None:
        """Select a recipe by its short name."""
        for n in range(self.list.count()):
            if self.list.item(n).data(Qt.ItemDataRole.UserRole) == name:
                self.list.setCurrentRow(n)

    def _show(self) -> None:
        known = self.recipes.get(self.name)
        self._show_count()
        self.remove_button.setEnabled(known is not None and known[1])
        self.out_button.setEnabled(known is not None)
        if known is None:
            self.words.setText("")
            return
        recipe, _ = known
        lines = [translated(recipe.description), ""] if recipe.description else []
        for n, step in enumerate(recipe.steps_for(48_000), 1):
            told = {
                "n": n,
                "tool": translated(step.tool.title),
                "caption": translated(step.tool.caption(step.settings)),
            }
            lines.append(
                tr("{n}.  {tool}: {caption}", **told)
                if step.enabled
                else tr("{n}.  {tool}: {caption}, switched off", **told)
            )
        self.words.setText("\n".join(lines))
        self._show_places(recipe)

    def _show_places(self, recipe: Recipe) -> None:
        """A question for each place that the recipe leaves open."""
        while (item := self._open.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        self.places = {}
        marked = self._marked
        for at, name, words in recipe.open_places():
            box = ChoiceBox()
            title = translated(tool_of(recipe.steps[at].tool_id).title)
            box.setAccessibleName(f"{title}: {translated(words)}")
            box.addItem(tr("automatic"), False)
            if marked is not None:
                box.addItem(
                    tr("the selection, {start}–{end}", start=format_time(marked[0], 2), end=format_time(marked[1], 2)),
                    True,
                )
            else:
                box.setToolTip(tr("Select a section on the Bench first to choose it here"))
            self.places[at, name] = box
            self._open.addWidget(label(f"{title}: {translated(words)}", 12, token="soft"))
            self._open.addWidget(box)

    @property
    def _marked(self) -> tuple[float, float] | None:
        selection, recording = self.session.selection, self.session.recording
        if selection is None or recording is None:
            return None
        return selection.span.start / recording.rate, selection.span.stop / recording.rate

    def apply(self) -> None:
        """Give the ticked recordings the steps, in the order of the recipe, as one edit."""
        there = {recording.id for recording in self.session.document.project.recordings}
        known, ids = self.recipes.get(self.name), [i for i in self.ticked if i in there]
        if known is None or not ids:
            return
        marked, asked = self._marked, {place for place, box in self.places.items() if box.currentData()}
        here = known[0].placed(marked, asked) if marked is not None and asked else known[0]
        # in another recording the selection would be another passage
        wanted = {i: here if i == self.session.current_id else known[0] for i in ids}
        before = self.session.document.project
        self.session.document.apply_recipe(wanted, self.same.currentData())
        one = before.recording(ids[0]).name
        count = one if len(ids) == 1 else plural("1 recording", "{n} recordings", len(ids))
        self.session.say(
            tr("{name} was added to {count}. Every step stays adjustable.", name=known[0].name, count=count)
        )
        if len(ids) > 1:
            self._show_results(before, wanted)
        self.accept()

    def _show_results(self, before: Project, wanted: dict[str, Recipe]) -> None:
        """What became of the steps in each recording, as a table."""
        rows = []
        for recording_id, recipe in wanted.items():
            was = {step.id: step for step in before.recording(recording_id).score}
            now = self.session.document.project.recording(recording_id)
            added = sum(step.id not in was for step in now.score)
            replaced = sum(step.id in was and step != was[step.id] for step in now.score)
            rows.append((now.name, str(added), str(replaced), str(len(recipe.steps) - added - replaced)))
        self.results = TableDialog(
            self.session, tr("Recipe applied"), tr("One undo takes all of it back."), self._window, figures=3
        )
        self.results.show_table((tr("Recording"), tr("added"), tr("replaced"), tr("kept")), rows)
        self.results.open()

    def take_in(self, paths: list[Path]) -> None:
        """Take files into the user's folder; what is wrong with one is told, the others are kept."""
        kept, wrong = [], []
        for path in paths:
            try:
                keep_recipe(path)
                kept.append(path.stem)
            except PuliziaError as error:
                wrong.append(str(error))
        self.fill(kept[-1] if kept else self.name)
        if wrong:
            self.session.say(" ".join(wrong), bad=True)

    def _ask_in(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, tr("Import recipes"), "", tr("Recipes (*.json)"))
        self.take_in([Path(n) for n in names])

    def _ask_out(self) -> None:
        known = self.recipes.get(self.name)
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Export recipe"), translated(f"{self.name}.json"), tr("Recipe (*.json)")
        )
        if name and known is not None:
            recipe = known[0]
            try:
                write_text(Path(name), recipe_text(recipe.name, recipe.steps_for(48_000), 48_000, recipe.description))
            except PuliziaError as error:
                self.session.say(str(error), bad=True)

    def _remove(self) -> None:
        known = self.recipes.get(self.name)
        if known is not None and known[1]:
            (config_folder("recipes") / f"{self.name}.json").unlink(missing_ok=True)
            self.fill()


class KeepRecipeDialog(QDialog):
    """Name and describe the score, and keep it in the library."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle(tr("Save steps as a recipe"))
        self.setFixedWidth(420)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Save steps as a recipe"), 20, bold=True))
        column.addWidget(
            label(
                tr("Selections are not saved: each step will apply to the whole recording and learn from it."),
                12,
                token="soft",
                wrap=True,
            )
        )
        self.name, self.description = QLineEdit(), QLineEdit()
        for words, edit in ((tr("Name"), self.name), (tr("Description"), self.description)):
            column.addWidget(label(words, 12, token="soft"))
            edit.setAccessibleName(translated(words))
            column.addWidget(edit)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.reject))
        row.addWidget(button(tr("Save"), self.keep, main=True))
        column.addLayout(row)

    def keep(self) -> None:
        """Write it into the user's folder."""
        recording, name = self.session.recording, self.name.text().strip()
        if recording is None or not name:
            self.session.say(tr("Give the recipe a name first."), bad=True)
            return
        steps = tuple(step.for_recipe() for step in recording.score if not step.other)
        short = "-".join("".join(c if c.isalnum() else " " for c in name.lower()).split()) or "recipe"
        try:
            write_text(
                config_folder("recipes") / f"{short}.json",
                recipe_text(name, steps, recording.rate, self.description.text().strip()),
            )
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return
        self.session.say(tr("{name} was saved to your recipes (Ctrl+R).", name=name))
        self.accept()

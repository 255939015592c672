# SPDX-License-Identifier: GPL-3.0-or-later
"""What stands under the sheet however far it is scrolled: harm, two states of the settings, presets, where it acts."""

from __future__ import annotations

from PySide6.QtWidgets import QInputDialog, QVBoxLayout, QWidget

from pulizia.desktop.bench.harm_gauge import HarmGauge
from pulizia.desktop.controls import SegmentSwitch, button, hairline
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.menu import Menu
from pulizia.session.session import Session
from pulizia.session.survey_service import Found
from pulizia.words import tr

SIDES = ("A", "B")


class StepFoot(QWidget):
    """Works on the selected step; hidden without one."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.setSpacing(2)
        column.addWidget(hairline())
        inner = QVBoxLayout()
        inner.setContentsMargins(16, 4, 12, 0)
        inner.setSpacing(2)
        self.gauge = HarmGauge()
        inner.addWidget(self.gauge)
        row = FlowLayout()
        self.sides = SegmentSwitch(
            SIDES,
            (tr("The first settings (Alt+A switches)"), tr("Other settings to compare; they begin as a copy of A")),
            tr("Two states of the settings"),
        )
        self.sides.chosen.connect(lambda index: session.presets.show_side(SIDES[index]))
        row.addWidget(self.sides)
        self.presets = button(tr("Presets"), self._show_presets, tip=tr("Saved settings of this tool"), quiet=True)
        row.addWidget(self.presets)
        self.only = button(
            tr("Limit to selection"), self._act_on_selection, tip=tr("Limit the step to the selection"), quiet=True
        )
        self.whole = button(
            tr("Apply everywhere"), self._act_everywhere,
            tip=tr("Apply the step everywhere, also where the original was restored"), quiet=True,
        )  # fmt: skip
        for made in (self.only, self.whole):
            row.addWidget(made)
        inner.addLayout(row)
        column.addLayout(inner)
        self.refresh()

    def refresh(self) -> None:
        """Show the selected step as it is now."""
        step = self.session.step
        self.setVisible(step is not None)
        if step is None:
            return
        self.sides.set_index(SIDES.index(self.session.presets.side))
        self.gauge.setVisible(not (step.tool.sets_level or step.tool.shapes_tone))
        limited = step.spans is not None or bool(step.holes)
        self.only.setVisible(self.session.owner_selection is not None or not limited)
        self.only.setEnabled(self.session.owner_selection is not None)
        self.whole.setVisible(limited)

    def show_found(self, found: Found | None) -> None:
        """Show the harm that is known; None leaves a dash."""
        self.gauge.show_harm(found.harm if found is not None else None)

    def presets_menu(self) -> Menu:
        """Presets of the tool, and what can be done with them."""
        menu, service, step = Menu(self), self.session.presets, self.session.step
        if step is None:
            return menu
        names = service.names(step.tool_id)
        for name in names:
            menu.addAction(name).triggered.connect(lambda _on=False, n=name: service.apply(n))
        if names:
            menu.addSeparator()
        menu.addAction(tr("Save as a preset…")).triggered.connect(self._ask_name)
        remove = menu.submenu(tr("Remove a preset"))
        remove.setEnabled(bool(names))
        for name in names:
            remove.addAction(name).triggered.connect(lambda _on=False, n=name: service.remove(step.tool_id, n))
        return menu

    def _show_presets(self) -> None:
        self.presets_menu().popup(self.presets.mapToGlobal(self.presets.rect().topLeft()))

    def _ask_name(self) -> None:
        name, good = QInputDialog.getText(self, tr("Save as a preset"), tr("Name"))
        if good and name.strip():
            self.session.presets.save(name)

    def _act_on_selection(self) -> None:
        selection, step, owner = self.session.owner_selection, self.session.step, self.session.owner
        if selection is not None and step is not None and owner is not None:
            self.session.document.set_spans(owner.id, step.id, (selection.span,))

    def _act_everywhere(self) -> None:
        step, owner = self.session.step, self.session.owner
        if step is not None and owner is not None and (step.holes or step.spans is not None):
            self.session.document.apply_everywhere(owner.id, step.id)

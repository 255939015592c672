# SPDX-License-Identifier: GPL-3.0-or-later
"""What was written last: its figures as measured again, its verdict, and its report as PDF."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.delivery.deliver import Delivered
from pulizia.delivery.normalise import State
from pulizia.desktop.controls import bring_into_view, button, label
from pulizia.desktop.delivery.print_report import print_pdf
from pulizia.desktop.delivery.verdicts import VerdictLabel
from pulizia.desktop.folders import show_folder
from pulizia.errors import PuliziaError
from pulizia.report.loudness_report import report_html
from pulizia.session.orders import Stage
from pulizia.session.queue_service import step_words
from pulizia.session.session import Session
from pulizia.units import format_number
from pulizia.words import plural, tr, translated


class Written(QWidget):
    """The last file of the queue; hidden until there is one."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.delivered: Delivered | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label(tr("Delivered and verified"), bold=True))
        self.figures = label("", 13, wrap=True)
        column.addWidget(self.figures)
        self.verdict = VerdictLabel()
        column.addWidget(self.verdict)
        folder_tip = tr("Open the folder of the file that was written last")
        self.folder_button = button(tr("Show in folder"), self.show_file, tip=folder_tip, quiet=True)
        pdf_tip = tr("Print the report of the file that was written last")
        self.pdf_button = button(tr("Report as PDF…"), self.ask_pdf, tip=pdf_tip, quiet=True)
        row = QHBoxLayout()
        row.addWidget(self.folder_button)
        row.addWidget(self.pdf_button)
        row.addStretch(1)
        column.addLayout(row)
        self.hide()
        session.events.queue.connect(self._queue_changed)

    def show_file(self) -> None:
        """Open the folder in which the last file lies."""
        if self.delivered is not None:
            show_folder(self.session, self.delivered.path)

    def _queue_changed(self) -> None:
        done = [o for o in self.session.queue.orders if o.stage is Stage.DONE and o.delivered is not None]
        last = done[-1].delivered if done else None
        if last is not None and last is not self.delivered:
            self.delivered = last
            where = (
                plural(
                    "1 file delivered to {folder}.",
                    "{n} files delivered to {folder}.",
                    len(last.files),
                    folder=last.path.parent,
                )
                if len(last.files) > 1
                else tr("Delivered to {path}.", path=last.path)
            )
            self.session.say(" ".join([where, *last.notes]))
            self._show(last)

    def _show(self, done: Delivered) -> None:
        self.figures.setText(
            translated(
                tr(
                    "{name}\n{integrated_lufs} {scale}, true peak {true_peak_dbtp} dBTP",
                    name=", ".join(path.name for path in done.files),
                    integrated_lufs=format_number(done.verified.integrated_lufs),
                    scale=done.plan.target.scale,
                    true_peak_dbtp=format_number(done.verified.true_peak_dbtp),
                )
                + ("\n" + tr("The file was corrected after it was measured.") if done.corrected else "")
                + "".join(f"\n{note}" for note in done.notes)
            )
        )
        self.verdict.show_verdict(next((v for v in done.verdicts if v.state is not State.WITHIN), done.verdicts[0]))
        self.show()
        bring_into_view(self)

    def ask_pdf(self) -> None:
        """Ask for a name and print the last report."""
        if self.delivered is None:
            return
        proposal = self.delivered.path.with_suffix(".pdf")
        name, _ = QFileDialog.getSaveFileName(self, tr("Report as PDF"), str(proposal), tr("PDF (*.pdf)"))
        if name:
            self.print_to(Path(name))

    def print_to(self, path: Path) -> None:
        """Print the last report; its page, which sums the file up, is made in the background."""
        done = self.delivered
        if done is None:
            return
        order = next((o for o in self.session.queue.orders if o.delivered is done), None)
        steps, clips = step_words(order.steps if order else ()), order.clips if order else ()

        def made(page: str) -> None:
            try:
                print_pdf(page, done.verified, done.plan.target.integrated_lufs, path)
            except PuliziaError as error:
                self.session.say(str(error), bad=True)
            else:
                self.session.say(tr("The report was printed to {path}.", path=path))

        self.session.job(lambda _job: report_html(done, steps, clips), tr("Printing the report"), made)

"""The first card, and the one shown while nothing is chosen."""

from __future__ import annotations

from usual_clay.bench.cards.card import Card, thousands
from usual_clay.bench.command import Commands
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import button
from usual_clay.core.check.deviation import percent
from usual_clay.job.items import Region, Scan, Surface


class StartCard(Card):
    """Ways to begin, for an empty job."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session, "Begin")
        self.about.setText(
            "Bring in a scan, choose a region of it, cast a surface over the region, and balance"
            " its control points against its deviation."
        )
        for name, words, picture, role in (
            ("bring in scan", "Bring in a scan ...", "cube", "main"),
            ("open", "Open a job ...", "folder-open", ""),
            ("open demo", "Open the demo job", "fish-simple", ""),
        ):
            made = button(words, words, role, picture)
            made.clicked.connect(lambda _=False, name=name: commands.run(name))
            self.column.addWidget(made)
        self.column.addStretch(1)


class JobCard(Card):
    """What the whole job comes to, and what to do next."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self.add_buttons(
            button(
                "Spread a region",
                "Grow a region of the scan from a click",
                clicked=lambda: commands.run("spread"),
            ),
            button(
                "Write STEP ...",
                "Hand all visible surfaces over",
                clicked=lambda: commands.run("step"),
            ),
        )
        self.column.addStretch(1)

    def refresh(self) -> None:
        job = self.session.shown
        self.title.setText(job.name)
        scans, regions, surfaces = (len(list(job.all(kind))) for kind in (Scan, Region, Surface))
        total = sum(surface.control_points for surface in job.all(Surface))
        reports = [job.report(surface) for surface in job.all(Surface)]
        judged = [report for report in reports if report is not None]
        met = sum(report.met for report in judged)
        words = (
            f"{_count(scans, 'scan')}, {_count(regions, 'region')}, {_count(surfaces, 'surface')}."
        )
        if surfaces:
            words += (
                f" {thousands(total)} control points in all; {met} of {len(judged)} that are judged"
                f" lie within {job.tolerance.deviation:.3f} mm at {percent(job.tolerance.share)}."
            )
        self.about.setText(f"{words} Choose an item on the stage or in the Shelf to work on it.")


def _count(count: int, word: str) -> str:
    return f"{count} {word}" + ("" if count == 1 else "s")

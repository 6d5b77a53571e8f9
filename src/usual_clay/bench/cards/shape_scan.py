"""The card that shapes a scan by a surface: a change of form is tried on the scan itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from usual_clay.bench.cards.card import Card
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, Slide, button, combo, fill
from usual_clay.core.scan.follow import follow_surface
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.job.items import Region, Scan, Surface

OWNER = "shape scan"


class ShapeScanCard(Card):
    """Picks the surface as it was and as it is; the scan over it follows, fading at the border."""

    def __init__(self, session: Session, done: Callable[[], None]) -> None:
        super().__init__(session, "Shape the scan")
        self._done = done
        self._shown: tuple = ()
        self._made: tuple[Scan, TriangleMesh] | None = None
        self.about.setText("What lies on a surface follows it; small features ride along")
        self.before, self.after = combo("The surface as it was"), combo("The surface as it is")
        for box in (self.before, self.after):
            box.currentIndexChanged.connect(lambda _index: self.refresh())
        self.fade = Slide(
            0, 20, 0.25, " mm", "How far from the border the change fades out", "Fades over"
        )
        self.fade.set_value(4.0)
        self.fade.changed.connect(lambda _value: self.refresh())
        for row in (
            Row("From", self.before, stretch=0),
            Row("To", self.after, stretch=0),
            Row("Fades over", self.fade, stretch=0),
        ):
            self.column.addWidget(row)
        self.add_say()
        self.keep = button(
            "Keep",
            "Add the shaped scan; the old one is hidden (Enter)",
            "main",
            clicked=self.accept,
        )
        self.pin_buttons(button("Cancel", "Drop it (Esc)", clicked=self.cancel), self.keep)
        self.column.addStretch(1)

    def offer(self) -> None:
        """Begin with the chosen surface as it is, and another as it was."""
        self._shown = ()
        self._fill()
        chosen = self.session.choice.item or ""
        self.after.setCurrentIndex(max(self.after.findData(chosen), 0))
        surface = self.session.job.get(chosen, Surface)
        others = [
            s.id
            for s in self.session.job.all(Surface)
            if surface is not None
            and s.id != chosen
            and s.geometry.counts == surface.geometry.counts
        ]
        if others:
            self.before.setCurrentIndex(self.before.findData(others[-1]))
        self.refresh()

    def _fill(self) -> None:
        for box in (self.before, self.after):
            box.blockSignals(True)
            fill(box, list(self.session.job.all(Surface)))
            box.blockSignals(False)

    def refresh(self) -> None:
        job = self.session.job
        self._fill()
        before = job.get(str(self.before.currentData()), Surface)
        after = job.get(str(self.after.currentData()), Surface)
        fade = self.fade.number.value()
        if before is None or after is None:
            return
        shown = (id(before.geometry), id(after.geometry), fade)
        if shown == self._shown:
            return
        self._shown, self._made = shown, None
        self.keep.setEnabled(False)
        self.session.propose(None)
        judged = before if job.measured(before) is not None else after
        region = job.region_of(judged)
        scan = None if region is None else job.get(region.scan, Scan)
        if before is after or region is None or scan is None:
            self.say(
                "",
                "Choose two surfaces: as it was, and as it is."
                if before is after
                else f"No scan lies under {before.name}.",
            )
            return
        self._compute(shown, scan, region, before, after, fade)

    def _compute(
        self,
        shown: tuple,
        scan: Scan,
        region: Region,
        before: Surface,
        after: Surface,
        fade: float,
    ) -> None:
        def make(*_: object) -> TriangleMesh:
            return follow_surface(scan.mesh, region.vertices, before.geometry, after.geometry, fade)

        def came(mesh: TriangleMesh) -> None:
            if self._shown is shown and self.isVisible():
                self._made = (scan, mesh)
                moved = np.linalg.norm(mesh.vertices - scan.mesh.vertices, axis=1)
                count = int((moved > 1e-9).sum())
                self.say(f"{count} points follow, by up to {moved.max():.3f} mm.", "")
                self.keep.setEnabled(count > 0)
                self.session.propose(self.session.job.changed(scan.id, mesh=mesh))

        def failed(error: Exception) -> None:
            if self._shown is shown and self.isVisible():
                self.say_failed(error)

        self.say("Working ...", "")
        self.session.work.start(OWNER, "preview", "", make, came, failed=failed, asked=True)

    def accept(self) -> None:
        """Keep the shaped scan beside the old one, which is hidden."""
        if self._made is None:
            return
        scan, mesh = self._made
        job = self.session.job
        name = job.free_name(f"{scan.name} shaped")
        shaped = replace(scan, id=job.new_id("scan"), name=name, mesh=mesh, visible=True)
        self._close()
        job = job.changed(scan.id, visible=False)
        self.session.commit(job.with_item(shaped), f"shape {scan.name}")
        self.session.choice.choose(shaped.id)

    def cancel(self) -> None:
        self._close()
        self.session.propose(None)

    def _close(self) -> None:
        self._shown, self._made = (), None
        self.session.work.drop(OWNER)
        self._done()

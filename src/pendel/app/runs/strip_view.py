"""The strips as a drive's file keeps them, and back."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pendel.core.drive.views import MOST_SIGNALS, MOST_STRIPS, View, ViewStrip
from pendel.core.runs.record.display_units import factor

if TYPE_CHECKING:
    from pendel.app.runs.strips import Strips


def view_of(strips: Strips, *, chosen: bool, panels: tuple[str, ...]) -> View:
    """What is looked at. Strips that nobody ``chosen`` are left to the drive's parts; what is shown of the time, of an
    axis, and cursors count where somebody moved them, or as they are to be with the first run."""
    waiting = strips.view or View()
    axes = {strip.signals: strip.axis for strip in waiting.strips}
    kept: tuple[ViewStrip, ...] = ()
    if chosen:
        kept = tuple(
            ViewStrip(
                tuple(spec.signals[:MOST_SIGNALS]),
                tuple(sorted(spec.setpoints & set(spec.signals))),
                spec.height,
                axes.get(tuple(spec.signals), ()) if strips.view is not None else strips.axis_by_hand(n),
            )
            for n, spec in enumerate(strips.specs[:MOST_STRIPS])
            if spec.signals
        )
    if strips.view is not None or not strips.shows_runs:
        return View(kept, waiting.cursors, waiting.span, panels)
    cursors = tuple(strips.times) if strips.times != [strips.run_begin, strips.run_end] else ()
    return View(kept, cursors, strips.span_by_hand(), panels)


def look_as_in(view: View, strips: Strips) -> None:
    """Show runs as they were looked at, as far as these are as long."""
    begin, end = strips.run_begin, strips.run_end
    if view.cursors and begin <= min(view.cursors) and max(view.cursors) <= end:
        strips.set_cursors(*view.cursors)
    if view.span and view.span[0] < end and view.span[1] > begin:
        strips.plots[0].vb.setXRange(*view.span, padding=0)
    for strip, spec, plot, traces in zip(view.strips, strips.specs, strips.plots, strips.traces):
        if strip.axis and traces and list(strip.signals) == spec.signals:
            one = factor(traces[0].unit)
            low, high = ((value + traces[0].shift) / one for value in strip.axis)
            plot.vb.setYRange(low, high, padding=0)


__all__ = ["look_as_in", "view_of"]

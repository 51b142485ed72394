"""What Matplotlib draws with in a script: ``show`` puts all open figures below the script, as pictures."""

from __future__ import annotations

from matplotlib import pyplot
from matplotlib._pylab_helpers import Gcf
from matplotlib.backend_bases import _Backend
from matplotlib.backends.backend_agg import FigureCanvasAgg

from pendel.remote.here import here

FigureCanvas = FigureCanvasAgg


@_Backend.export
class _Pictures(_Backend):
    FigureCanvas = FigureCanvasAgg

    @staticmethod
    def show(*args: object, **kwargs: object) -> None:
        for manager in Gcf.get_all_fig_managers():
            here().picture(manager.canvas.figure, f"Figure {manager.num}")
        pyplot.close("all")

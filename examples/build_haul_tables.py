"""Makes the flux tables of the haul machine from an invented co-energy, and the haul drive with them: ``python
examples/build_haul_tables.py``.

w/(3/2) = ψ_m·i_d + L_1·i_d²/2 + L_2·i_q²/2 + L_s·I_s²·ln cosh(i_q/I_s)·(1 − k·tanh(i_d/I_k)), and the fluxes are its
slopes: the q axis saturates, and the two axes share the iron."""

import dataclasses
from pathlib import Path

import numpy as np
from build_haul_drive import haul_drive

from pendel.core.catalogue.machines.flux import table_of
from pendel.core.drive import commands, file

EXAMPLES = Path(__file__).parent.parent / "src" / "pendel" / "examples"
PSI_M, L_1, L_2, L_S, I_S, SHARE, I_K = 0.32, 0.9e-3, 0.35e-3, 1.25e-3, 130.0, 0.28, 320.0


def fluxes(i_d, i_q):
    """psi_d and psi_q (Wb) of currents (A)."""
    coupling = 1.0 - SHARE * np.tanh(i_d / I_K)
    psi_d = PSI_M + L_1 * i_d - SHARE / I_K / np.cosh(i_d / I_K) ** 2 * L_S * I_S**2 * np.log(np.cosh(i_q / I_S))
    return psi_d, L_2 * i_q + L_S * I_S * np.tanh(i_q / I_S) * coupling


def tables():
    """The machine's table, made anew in the file it is read from."""
    i_d, i_q = np.linspace(-300, 60, 25), np.linspace(-300, 300, 31)
    d, q = np.meshgrid(i_d, i_q, indexing="ij")
    psi_d, psi_q = (np.round(psi, 7) for psi in fluxes(d, q))
    path = EXAMPLES / "haul_flux.csv"
    lines = [f"{a:g},{b:g},{x:.7f},{y:.7f}" for a, b, x, y in zip(d.ravel(), q.ravel(), psi_d.ravel(), psi_q.ravel())]
    path.write_text("\n".join(["i_d (A),i_q (A),psi_d (Wb),psi_q (Wb)", *lines]) + "\n", encoding="utf-8")
    return table_of(i_d, i_q, psi_d, psi_q, path.name)


def give_tables(document, table) -> None:
    """Make the haul machine one by tables."""
    card = document.cards["haul_machine"]
    keep = {n: t for n, t in card.values.items() if n in ("p", "R_s", "J_m", "b_m", "P_fe", "n_fe", "I_max")}
    document.cards["haul_machine"] = dataclasses.replace(card, kind="pmsm_tables", values=keep)
    commands.set_flux(document, "haul_machine", table).apply(document)


def main() -> None:
    drive = haul_drive()
    drive.set("title", "Ostrelle funicular · haul drive with flux tables")
    document = drive.document
    give_tables(document, tables())
    target = EXAMPLES / "haul_drive_tables.pendel"
    target.unlink(missing_ok=True)
    file.save(document, target)


if __name__ == "__main__":
    main()

"""``import pendel``: what a script has in hand. `api.Drive` is put together from what edits (`drive_edits`), judges
(`drive_loops`), ships (`drive_firmware`) and varies (`drive_series`); `run_view.Run` and `card_view.CardView` are what
it gives. What is remote and what a terminal has comes from these and from `pendel.core.verbs`."""

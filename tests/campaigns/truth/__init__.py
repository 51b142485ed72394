"""The campaign that looks for wrong numbers: random drives, scaled and mirrored twins, figures by their definitions,
blocks over hours."""

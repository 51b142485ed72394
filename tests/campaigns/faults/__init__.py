"""The campaign that looks for foreign errors, hangs and lost work: damaged and hostile input at each boundary,
processes killed at any time."""

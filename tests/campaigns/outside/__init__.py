"""Second opinions: other programs for the same open standards, on what Pendel writes and serves. They are in an
environment of their own, which `./run outside` makes."""

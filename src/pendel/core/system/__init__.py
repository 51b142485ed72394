"""The level *system*: a drive in which machines that carry an envelope stand for their converters and inner loops.

``fold`` makes that drive; it knows the catalogue and the document, and no run."""

"""Which loops a drive has, where they are judged, and what runs measure of them."""

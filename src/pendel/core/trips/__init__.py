"""What could have been, of a trip that was run: `shafts` are the fixed ratios between what drives a vehicle, `splits`
the ways in which engine and machines can share what the road wanted in each step, `best` the least fuel by any of
them."""

"""Number formats of shipped code: a block's update as a tree, its ranges, and C in float and in fixed
point."""

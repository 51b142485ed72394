"""One of each thing that a package can add to Pendel, one file each."""

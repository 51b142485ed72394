"""How files are written whole or not at all (writing), and how HDF5 files are opened (hdf)."""

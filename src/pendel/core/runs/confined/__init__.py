"""Processes that may run code of a drive, and what they are kept from."""

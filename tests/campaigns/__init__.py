"""Tests that take longer than a test run may: `./run truth`, `./run faults`, `./run outside`. A quick part of each is
among the tests."""

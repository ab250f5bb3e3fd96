"""Speed and memory, measured by `make bench`; never part of the tests."""

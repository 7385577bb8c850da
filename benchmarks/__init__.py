"""Measurements, not tests: `make bench` prints tables."""

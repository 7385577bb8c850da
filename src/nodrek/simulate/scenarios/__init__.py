"""Scenario files that ship with the program."""

"""Brisk Herald on the command line, by nothing but its API. docs/ctl.md describes it."""

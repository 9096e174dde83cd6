"""Measurements of what must be fast, each beside something in the same run. `./herald bench` lists them.

Absolute times on a shared machine drift; the ratios hold.
"""

"""Launching: checked when it is asked for, carried out by a worker."""

"""Rollouts as a whole: where they and their rings stand."""

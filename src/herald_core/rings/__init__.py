"""Rings: who is in which, when the next one opens, and when a rollout stops itself."""

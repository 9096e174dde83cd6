"""A rollout played through without a server: a clock, devices and the rules that the real one follows."""

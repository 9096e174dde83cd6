"""Configuration kept as files: exported, compared with what is there, and applied as one act."""

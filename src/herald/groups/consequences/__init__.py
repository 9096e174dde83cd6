"""What a change of devices, rules or members would move: who joins and leaves, and the agreement to it."""

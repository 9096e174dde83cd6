"""How a serving process treats its memory."""

import gc

#: The collector looks for cycles after so many new objects, and at all objects after so many of these looks.
_NEW_OBJECTS, _YOUNG_LOOKS, _ALL_LOOKS = 50_000, 20, 50


def settle_memory() -> None:
    """Call it when a process has started up: what start-up made stays, and the collector need not walk it again while
    requests are answered. An answer with ten thousand parts would otherwise be interrupted for a fifth of a second."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(_NEW_OBJECTS, _YOUNG_LOOKS, _ALL_LOOKS)

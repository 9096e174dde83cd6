"""Pure computation of Brisk Herald: no Django, no input or output, no clock of its own."""

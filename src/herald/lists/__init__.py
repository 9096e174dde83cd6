"""Lists that are kept elsewhere, and the groups that follow them."""

"""A long run of the whole installation under disturbances, after which every order must be accounted for."""

"""How rollouts are told of: where they stand, what they wait for, what is expected, and how they ended."""

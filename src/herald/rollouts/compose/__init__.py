"""What a person writes down before a launch: drafts, kept ring plans, and what else wants the same devices."""

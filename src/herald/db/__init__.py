"""What several rooms ask of the database: expressions, bulk copies, locks, statements compiled once."""

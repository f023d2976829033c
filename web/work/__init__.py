"""Long work: a queue in the database, and processes that may crash."""

"""The `./herald` command: set-up, processes, tests, pictures and benches."""

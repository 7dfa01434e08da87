"""What can be wrong with a machine, by subject."""

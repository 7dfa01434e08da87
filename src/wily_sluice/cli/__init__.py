"""The commands: read options, call the core, hand the result to a view."""

"""The demo site: Saltmarsh Veterinary, a surgery with a flat above it."""

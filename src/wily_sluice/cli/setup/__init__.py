"""Commands that help to set up: completion of shells, schemas for editors."""

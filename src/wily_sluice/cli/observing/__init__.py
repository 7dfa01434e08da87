"""Commands that show the gate's present and past state."""

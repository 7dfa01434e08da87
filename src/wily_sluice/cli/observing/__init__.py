"""Commands that look at what the gate does and has done."""

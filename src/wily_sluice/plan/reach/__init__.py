"""The reach of rules: exactly, as regions in the space of conversations and packets; and quickly, among thousands."""

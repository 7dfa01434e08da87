"""Mappings of ports that hosts ask for: the protocols in which they ask, and who has which port."""

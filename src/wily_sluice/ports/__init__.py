"""Mappings of ports on request of hosts: the protocols, and the table of mappings."""

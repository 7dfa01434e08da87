"""Commands to try a plan: the demo, the lab and the rig."""

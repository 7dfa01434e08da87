"""The lab: a discrete-event simulation of lines, hosts and applications around the very engine that the gate runs."""

"""What happens to a packet. No I/O, no clock, no plan file: packets and times go in, packets come out.

Everywhere in here time is an int of nanoseconds on a monotonic clock that the caller hands in as `now`, sizes are
bytes as charged on the line, rates are bit/s. Nothing in this package imports anything of ours but `units`.
"""

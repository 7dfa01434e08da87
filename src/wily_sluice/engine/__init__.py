"""The datapath without the outside world: no I/O, no clock, no plan file. The caller passes packets and times, and gets
packets back.

Times are integers of nanoseconds on a monotonic clock, passed as `now`. Sizes are bytes as charged on the line, rates
are bit/s. This package imports only `units` of ours.
"""

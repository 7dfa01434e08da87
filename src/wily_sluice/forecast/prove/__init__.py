"""Turns every promise of a plan into a test with a number, in simulated time, on the engine that the gate runs.

New here: another kind of promise.
"""

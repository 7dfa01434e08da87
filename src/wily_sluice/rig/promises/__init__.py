"""Tries the promises of a plan on real packets: a gate in a rig's gateway, and traffic that goes through it.

New here: how something is sent that a rule asks for (`traffic_program`).
"""

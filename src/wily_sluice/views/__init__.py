"""Turns results into tables, trees and JSON. Decides nothing."""

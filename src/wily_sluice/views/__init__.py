"""Drr results into tables, trees and JSON. Decides nothing."""

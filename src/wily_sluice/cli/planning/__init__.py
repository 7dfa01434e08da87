"""Commands that read a plan and forecast: nothing is changed by them."""

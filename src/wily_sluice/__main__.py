"""`python -m wily_sluice` is the same program as `sluice`."""

from wily_sluice.cli.main import sluice

if __name__ == "__main__":
    sluice(prog_name="sluice")

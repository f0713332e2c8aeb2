"""`python -m ivrel` is the same program as `ivrel`."""

from ivrel.cli.main import run

if __name__ == "__main__":
    run()

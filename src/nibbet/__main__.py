"""`python -m nibbet`."""

from nibbet.cli.main import run

if __name__ == "__main__":
    run()

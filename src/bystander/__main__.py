"""The program's entry: `bystander` and `python -m bystander`."""

from bystander.cli import run

__all__ = ["run"]

if __name__ == "__main__":
    run()

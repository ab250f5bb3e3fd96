"""`python -m innerlamp` is the command `inner-lamp`."""

from innerlamp.command import entry

if __name__ == "__main__":
    raise SystemExit(entry())

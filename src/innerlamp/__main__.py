"""`python -m innerlamp` is the command `inner-lamp`."""

from innerlamp.cli import main

if __name__ == "__main__":
    raise SystemExit(main())

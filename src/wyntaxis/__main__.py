"""Run ``python -m wyntaxis``."""

import sys

from wyntaxis.cli import main

if __name__ == "__main__":
    sys.exit(main())

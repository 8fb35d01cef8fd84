"""Hold results against the truth of many made-up cases: `./kestrel truth [truth.test_tissues …]`."""

import sys

from tests.__main__ import run_all
from tests.side_by_side import leave

if __name__ == "__main__":
    leave(run_all(sys.argv[1:], "truth"))

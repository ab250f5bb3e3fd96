"""A process that opens one NetCDF-4 file and ends: `python -m innerlamp.core.formats.grids.netcdf_trial FILE`.

Ends with 0 when the file can be opened and with 2, a sentence and a way out when it is refused. What calls it judges a
process that never ends or that a signal ends.
"""

from __future__ import annotations

import resource
import sys
from pathlib import Path

from ...errors import InputError
from ...limits import bound
from .netcdf_doors import stands_alone

_MEMORY = 4 << 30  # bytes of address space: the head of a file needs far less
_CPU = 30  # seconds of work


def main(path: Path) -> int:
    bound(resource.RLIMIT_AS, _MEMORY)
    bound(resource.RLIMIT_CORE, 0)
    bound(resource.RLIMIT_CPU, _CPU)  # ends it also when who called it is gone
    import netCDF4

    try:
        stands_alone(path)
        with netCDF4.Dataset(str(path)) as data:
            for variable in data.variables.values():
                variable.ncattrs()
    except InputError as error:
        print(f"{error.what}\n{error.fix}")
        return 2
    except Exception:  # the library raises whatever a broken file leads it to
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))

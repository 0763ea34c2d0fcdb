#!/usr/bin/env bash
# Runs a script with a Python that has numpy. Usage: with_numpy.sh SCRIPT.py ARGUMENTS...
set -eu
python3 -c 'import numpy' 2>/dev/null && python=python3 || python=/usr/bin/python3
exec "$python" "$@"

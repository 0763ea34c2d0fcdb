#!/usr/bin/env bash
# Writes the numpy-made cases and runs them through every path. Usage: oracle.sh TOOL SCRIPT WORK_DIR
set -eu
rm -rf "$3"
python3 -c 'import numpy' 2>/dev/null && python=python3 || python=/usr/bin/python3
"$python" "$2" "$3"
"$1" parity --suite "$3" --all-isas

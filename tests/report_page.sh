#!/usr/bin/env bash
# Runs report_page.py with a Python that has numpy. Usage: as report_page.py
set -eu
python3 -c 'import numpy' 2>/dev/null && python=python3 || python=/usr/bin/python3
exec "$python" "$(dirname "$0")/report_page.py" "$@"

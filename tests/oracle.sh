#!/usr/bin/env bash
# Writes the numpy-made cases and runs them through every path; all must run and pass. Usage: oracle.sh TOOL SCRIPTS_DIR WORK_DIR
set -eu
rm -rf "$3"
python3 -c 'import numpy' 2>/dev/null && python=python3 || python=/usr/bin/python3
for script in "$2"/make_*.py; do
  "$python" "$script" "$3/$(basename "$script" .py)"
done
report=$("$1" parity --suite "$3" --all-isas) || { echo "$report"; exit 1; }
tail -n 20 <<<"$report"
# A case of ours that does not run is as bad as one that fails.
grep -q ' 0 failed, 0 skipped' <<<"$report"

#!/usr/bin/env bash
# Runs the packaged conformance cases through plain and compiled paths, 1 and 2 threads, every instruction set. Fails when any case
# fails, when a case that is not among the EXCEPTIONS does not run, when one of them passes, or when fewer than LEAST pass (so that
# missing data shows). Usage: conformance.sh TOOL DATA_DIR EXCEPTIONS LEAST
set -u
tool=$1 data=$2 exceptions=$3 least=$4
if [ ! -d "$data" ]; then
  echo "the packaged conformance cases are missing: $data (package libonnx-testdata)"
  exit 1
fi
report=$(mktemp)
trap 'rm -f "$report"' EXIT
"$tool" parity --suite "$data" --all-isas --except "$exceptions" >"$report"
code=$?
cat "$report"
passed=$(tail -n 1 "$report" | cut -d' ' -f1)
if [ "$passed" -lt "$least" ]; then
  echo "only $passed cases pass, $least must"
  exit 1
fi
exit $code

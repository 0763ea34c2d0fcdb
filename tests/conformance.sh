#!/usr/bin/env bash
# Runs the packaged conformance cases through plain and compiled paths, 1 and 2 threads, every instruction set; fails when
# any case fails or fewer than LEAST pass. Usage: conformance.sh TOOL DATA_DIR LEAST
set -u
tool=$1 data=$2 least=$3
if [ ! -d "$data" ]; then
  echo "the packaged conformance cases are missing: $data (package libonnx-testdata)"
  exit 1
fi
report=$(mktemp)
trap 'rm -f "$report"' EXIT
"$tool" parity --suite "$data" --all-isas --verbose >"$report"
code=$?
grep '^FAILED' "$report"
echo "not yet supported, by reason:"
grep '^skipped' "$report" | sed 's/.*model\.onnx: //; s/; register a definition.*//' | sort | uniq -c | sort -rn | head -20
tail -n 1 "$report"
passed=$(tail -n 1 "$report" | cut -d' ' -f1)
if [ "$passed" -lt "$least" ]; then
  echo "only $passed cases pass, $least did before"
  exit 1
fi
exit $code

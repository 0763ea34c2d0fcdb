#!/usr/bin/env bash
# Work shared out by MPI: the same report as one process gives, whatever the number of ranks; a rank that is killed; a job that is, and goes
# on from its checkpoint. Usage: ranks.sh TOOL DEMO_FOLDER WORK_FOLDER
set -eu
tool=$1 demo=$2 work=$3
rm -rf "$work" && mkdir -p "$work"
export OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1
ranks() { timeout -k 5 300 mpirun --oversubscribe --bind-to none -n "$@"; }
# All that a report says but times and who did what.
report() { python3 -c '
import json, sys
def rid(x):
    if isinstance(x, dict): return {k: rid(v) for k, v in x.items() if k not in ("seconds", "lanes", "shared")}
    return [rid(v) for v in x] if isinstance(x, list) else x
print(json.dumps(rid(json.load(open(sys.argv[1]))), sort_keys=True))' "$1"; }
same() { diff <(report "$1") <(report "$2") >"$work/diff" || { echo "$3: the reports differ"; head -c 2000 "$work/diff"; exit 1; }; }
grain=(judge "$demo/grain/grain.onnx" --data "$demo/grain/truth.csv" --beside "$demo/grain/test" --threads 1)

"$tool" "${grain[@]}" --json "$work/one.json" >/dev/null
for n in 2 3; do
  ranks $n "$tool" "${grain[@]}" --ranks mpi --json "$work/ranks.json" >"$work/out" 2>"$work/err" || { cat "$work/out" "$work/err"; exit 1; }
  same "$work/one.json" "$work/ranks.json" "judge on $n ranks"
done
# Rank 0 alone reports, once.
ranks 3 "$tool" "${grain[@]}" --ranks mpi >"$work/out"
[ "$(grep -c 'By class' "$work/out")" = 1 ]
grep -q 'by 3 ranks' "$work/out"
# Boxes, and pictures that are run.
knots=(judge "$demo/knots/knots.onnx" --as boxes --data "$demo/knots/boxes.csv" --beside "$demo/knots/test" --threads 1)
"$tool" "${knots[@]}" --json "$work/one.json" >/dev/null
ranks 2 "$tool" "${knots[@]}" --ranks mpi --json "$work/ranks.json" >/dev/null
same "$work/one.json" "$work/ranks.json" "boxes on 2 ranks"
run=(run "$demo/grain/grain.onnx" --image "$demo/grain/test" --truth "$demo/grain/truth.csv" --threads 1)
"$tool" "${run[@]}" --save "$work/one" --json "$work/one.json" >/dev/null
ranks 2 "$tool" "${run[@]}" --ranks mpi --save "$work/two" --json "$work/ranks.json" >/dev/null
same "$work/one.json" "$work/ranks.json" "run on 2 ranks"
diff -r "$work/one" "$work/two"

# Variants: what is judged together decides on what is built (a budget), and comes out the same.
sed -e 's/seconds = 1.5/seconds = 0.2/; s/rounds = 15/rounds = 3/' -e "s#\"\(truth.csv\|test\|calibration\|grain.onnx\)\"#\"$demo/grain/\1\"#" \
  "$demo/grain/variants.toml" >"$work/variants.toml"
variants() { python3 -c '
import json, sys
for v in json.load(open(sys.argv[1]))["variants"]: print(json.dumps({k: v[k] for k in v if k in ("name", "accuracy", "items_judged", "against_first", "kept_wide", "parity", "file_bytes")}))' "$1"; }
"$tool" compare "$work/variants.toml" --json "$work/one.json" >/dev/null
ranks 2 "$tool" compare "$work/variants.toml" --ranks mpi --json "$work/ranks.json" >"$work/out"
[ "$(grep -c 'judged on 240 items' "$work/out")" = 1 ]
diff <(variants "$work/one.json") <(variants "$work/ranks.json")

# A rank that dies in the middle: what it had is done by others.
cat >"$work/dies" <<'SH'
#!/usr/bin/env bash
if [ "$OMPI_COMM_WORLD_RANK" = 2 ]; then
  "$@" &
  # Once all are there and at it.
  until [ "$(stat -c %s "$DIES_AT" 2>/dev/null || echo 0)" -gt 3000 ]; do sleep 0.02; done
  kill -9 $! 2>/dev/null; kill -9 $$
fi
exec "$@"
SH
chmod +x "$work/dies"
for times in 1 2 3 4 5 6 7 8; do tail -n +2 "$demo/grain/truth.csv"; done >"$work/many.csv"
many=(judge "$demo/grain/grain.onnx" --data "$work/many.csv" --beside "$demo/grain/test" --threads 1 --isa scalar)
"$tool" "${many[@]}" --json "$work/one.json" >/dev/null
rm -f "$work/ranks.json"
DIES_AT=$work/dying timeout -k 5 300 mpirun --oversubscribe --bind-to none --enable-recovery -n 3 "$work/dies" "$tool" "${many[@]}" --ranks mpi \
  --checkpoint "$work/dying" --json "$work/ranks.json" >"$work/out" 2>"$work/err" || true
grep -q 'nothing came back from rank 2' "$work/out" || { cat "$work/out" "$work/err"; exit 1; }
same "$work/one.json" "$work/ranks.json" "with a rank that was killed"

# A job that is killed, and one that goes on.
"$tool" "${many[@]}" --checkpoint "$work/done" --json "$work/ranks.json" >/dev/null & job=$!
for wait in $(seq 200); do [ "$(stat -c %s "$work/done" 2>/dev/null || echo 0)" -gt 5000 ] && break; sleep 0.05; done
kill -9 $job; wait $job 2>/dev/null || true
ranks 2 "$tool" "${many[@]}" --checkpoint "$work/done" --ranks mpi --json "$work/ranks.json" >"$work/out"
grep -q 'items from the checkpoint' "$work/out" || { cat "$work/out"; exit 1; }
same "$work/one.json" "$work/ranks.json" "from a checkpoint"
if "$tool" "${grain[@]}" --checkpoint "$work/done" >/dev/null 2>"$work/err"; then echo "another job's checkpoint was taken"; exit 1; fi
grep -q 'is of another job' "$work/err"

# Each rank tells what is wrong with it.
if ranks 2 "$tool" judge "$demo/grain/grain.onnx" --data "$work/nowhere.csv" --ranks mpi >/dev/null 2>"$work/err"; then echo "no error"; exit 1; fi
grep -q 'nowhere.csv: no such file' "$work/err"
echo "all as one process does it"

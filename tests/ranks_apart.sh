#!/usr/bin/env bash
# Ranks on two hosts: network namespaces with names of their own, joined by a cable that is pulled in the middle. Needs root, iproute2 and
# Open MPI. Usage: ranks_apart.sh TOOL DEMO_FOLDER WORK_FOLDER
set -eu
# 77: left out, as ctest knows it.
command -v ip >/dev/null && [ "$(id -u)" = 0 ] || { echo "needs root and iproute2"; exit 77; }
ip netns add lathe_probe_$$ 2>/dev/null || { echo "no network namespaces here"; exit 77; }
ip netns del lathe_probe_$$
tool=$1 demo=$2 work=$3
rm -rf "$work" && mkdir -p "$work"
export OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1
a=lathe_a_$$ b=lathe_b_$$
# What is cut off waits for rank 0 for minutes.
end_hosts() {
  for host in $a $b; do ip netns pids $host 2>/dev/null | xargs -r kill -9 2>/dev/null || true; done
}
clean() {
  end_hosts
  for host in $a $b; do ip netns del $host 2>/dev/null || true; done
}
trap clean EXIT
ip netns add $a && ip netns add $b
ip link add cable netns $a type veth peer name cable netns $b
for end in "$a 10.77.0.1" "$b 10.77.0.2"; do
  set -- $end
  ip -n "$1" link set lo up && ip -n "$1" addr add "$2/24" dev cable && ip -n "$1" link set cable up
done
# What MPI takes for ssh.
cat >"$work/to_host" <<SH
#!/usr/bin/env bash
host=\$1; shift
exec ip netns exec $b unshare --uts sh -c 'hostname lathe-b; exec sh -c "\$0"' "\$*"
SH
chmod +x "$work/to_host"
on_both() {
  ip netns exec $a unshare --uts sh -c 'hostname lathe-a; exec "$@"' sh timeout -k 2 120 mpirun -H 10.77.0.1:1,10.77.0.2:1 -n 2 --bind-to none \
    --mca plm_rsh_agent "$work/to_host" --mca btl tcp,self --mca btl_tcp_if_include 10.77.0.0/24 --mca oob_tcp_if_include 10.77.0.0/24 "$@"
}
report() { python3 -c '
import json, sys
def rid(x):
    if isinstance(x, dict): return {k: rid(v) for k, v in x.items() if k not in ("seconds", "lanes", "shared")}
    return [rid(v) for v in x] if isinstance(x, list) else x
print(json.dumps(rid(json.load(open(sys.argv[1]))), sort_keys=True))' "$1"; }
for times in 1 2 3 4 5 6 7 8; do tail -n +2 "$demo/grain/truth.csv"; done >"$work/many.csv"
many=(judge "$demo/grain/grain.onnx" --data "$work/many.csv" --beside "$demo/grain/test" --threads 1 --isa scalar)
"$tool" "${many[@]}" --json "$work/one.json" >/dev/null
on_both sh -c 'echo "rank $OMPI_COMM_WORLD_RANK on $(hostname)"' | sort >"$work/hosts"
diff "$work/hosts" - <<'TEXT'
rank 0 on lathe-a
rank 1 on lathe-b
TEXT
on_both "$tool" "${many[@]}" --ranks mpi --json "$work/both.json" >"$work/out"
grep 'by 2 ranks' "$work/out"
diff <(report "$work/one.json") <(report "$work/both.json")
# The cable is pulled: what the other host had is done here.
(until [ "$(stat -c %s "$work/done" 2>/dev/null || echo 0)" -gt 3000 ]; do sleep 0.02; done; ip -n $b link set cable down) & cut=$!
on_both --enable-recovery "$tool" "${many[@]}" --ranks mpi --checkpoint "$work/done" --json "$work/pulled.json" >"$work/out" 2>"$work/err" & job=$!
# MPI's own starter waits for the other host's; we do not.
for moment in $(seq 600); do
  if [ -s "$work/pulled.json" ] || ! kill -0 $job 2>/dev/null; then break; fi
  sleep 0.2
done
sleep 2
end_hosts
wait $job 2>/dev/null || true
kill $cut 2>/dev/null || true
diff <(report "$work/one.json") <(report "$work/pulled.json")
grep 'by 2 ranks' "$work/out"
echo "two hosts, and one that was cut off: all as one process does it"

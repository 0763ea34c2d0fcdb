#!/usr/bin/env bash
# What the build cannot check about the rooms: public headers by file, and kernels and ops apart from each other.
# Usage: rooms.sh SOURCE_DIR
set -u
cd "$1" || exit 1
bad=0
complain() { echo "$1"; bad=1; }
# A room's sources may include public headers only of rooms at or below its own height.
declare -A height=([error]=0 [log]=0 [dtype]=1 [tensor]=1 [graph]=2 [op]=4 [builder]=4 [formats]=5 [program]=8 [state]=8 [text]=0 [generate]=9 [line]=9 [archive]=8 [shaping]=6 [parity]=9 [divergence]=9 [measure]=10 [arrivals]=10 [sweep]=10 [recipes]=0 [tune]=10 [profile]=10 [report]=11 [lathe]=12)
declare -A room=([base]=0 [tensor]=1 [graph]=2 [kernels]=1 [ops]=4 [formats]=5 [passes]=6 [lower]=7 [archive]=2 [text]=0 [runtime]=8 [generate]=9 [parity]=9 [measure]=10 [tune]=10 [report]=11)
for r in "${!room[@]}"; do
  while IFS=: read -r file header; do
    h=${header#*lathe/}; h=${h%.hpp*}
    if [ "${height[$h]:-99}" -gt "${room[$r]}" ]; then complain "$file includes lathe/$h.hpp, which is above room $r"; fi
  done < <(grep -HoE '#include "lathe/[a-z_]+\.hpp"' -r "src/$r")
done
grep -nE '#include "(ops|graph|lathe/(graph|tensor|op))' -r src/kernels && complain "kernels must know nothing of graphs, tensors and ops"
grep -nE '#include "kernels/' -r src/ops && complain "ops must not include kernels"
grep -lE 'iostream|CLI11|isatty' -r src/base src/tensor src/graph src/kernels src/ops src/formats src/archive src/passes src/lower src/runtime src/text src/generate src/parity src/measure src/tune src/report && complain "the core has no terminal"
exit $bad

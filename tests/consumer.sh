#!/usr/bin/env bash
# Installs the build into a folder of its own and builds a small project against it.
# Usage: consumer.sh BUILD_DIR PROJECT_DIR WORK_DIR MODEL [SANITIZERS]
set -eu
build=$1 project=$2 work=$3 model=$4 sanitize=${5:-}
rm -rf "$work"
mkdir -p "$work"
cmake --install "$build" --prefix "$work/prefix" >"$work/install.log"
flags=${sanitize:+-fsanitize=$sanitize}
cmake -S "$project" -B "$work/build" -G Ninja -DCMAKE_BUILD_TYPE=Release -DCMAKE_PREFIX_PATH="$work/prefix" -DCMAKE_CXX_FLAGS="$flags" >"$work/configure.log"
cmake --build "$work/build" >"$work/build.log"
"$work/build/consumer" "$model"
"$work/build/ship"
# The installed tool runs on its own.
"$work/prefix/bin/lathe" inspect "$model" >/dev/null
# And pkg-config finds the same.
export PKG_CONFIG_PATH=$(dirname "$(find "$work/prefix" -name mellowlathe.pc)")
libdir=$(pkg-config --variable=libdir mellowlathe)
${CXX:-c++} -std=c++20 $flags "$project/main.cpp" $(pkg-config --cflags --libs mellowlathe) -o "$work/by_pkgconfig"
LD_LIBRARY_PATH="$libdir" "$work/by_pkgconfig" "$model"

# A program that runs one archive alone, from what ship writes; statically linked, which sanitizers do not do.
if [ -z "$sanitize" ]; then
  "$work/prefix/bin/lathe" ship "$model" --static-kit "$work/kit" --batch 1 --threads 1 >"$work/kit.txt"
  cmake -S "$work/kit" -B "$work/kit/build" -G Ninja -DCMAKE_PREFIX_PATH="$work/prefix" >>"$work/configure.log"
  cmake --build "$work/kit/build" >>"$work/build.log"
  program=$work/kit/build/$(basename "$model" .onnx)
  # It needs nothing beside it: no library, no file.
  if ldd "$program" 2>/dev/null | grep -q '=>'; then ldd "$program"; exit 1; fi
  said=$(cd / && "$program")
  # What it says of zeros is what the tool says.
  /usr/bin/python3 -c 'import numpy, sys; numpy.save(sys.argv[1], numpy.zeros((1, 3, 64, 64), numpy.float32))' "$work/zeros.npy"
  "$work/prefix/bin/lathe" run "$work/kit/model.lathe" --input "$work/zeros.npy" --json "$work/zeros.json" >/dev/null
  python3 - "$work/zeros.json" "$said" <<'PY'
import json, sys
said = [float(v) for line in sys.argv[2].splitlines()[1:] for v in line.split(":")[1].split("  (")[0].split()]
is_ = [float(v) for o in json.load(open(sys.argv[1]))["outputs"].values() for v in o["values"][:8]]
assert len(said) == len(is_) > 0 and all(abs(a - b) <= 1e-5 * max(1, abs(b)) for a, b in zip(said, is_)), (said, is_)
PY
  # Kernels of other instruction sets are refusals: bytes in each set's namespace.
  ${CXX:-c++} -O2 -std=c++20 -ffunction-sections -static -Wl,--gc-sections -I "$work/prefix/include" "$work/kit/main.cpp" "$work/kit/needed.cpp" \
    -Wa,-I,"$work/kit" "$work/kit/model.S" "$(find "$work/prefix" -name libmellowlathe_deploy.a)" -o "$work/named" 2>>"$work/build.log"
  nm -CS "$work/named" | python3 -c '
import collections, re, sys
sets = collections.Counter()
for line in sys.stdin:
    found = re.match(r"\S+ (\S+) [tTwW] .*kernels::(N_[A-Z0-9]+)::", line)
    if found: sets[found[2]] += int(found[1], 16)
own, *others = sets.most_common()
assert own[1] > 100000 and all(size < 4096 for _, size in others), sets
'
  # An archive for less than this machine has: what picks kernels by the machine finds those of the archive's set.
  if "$work/prefix/bin/lathe" ship "$(dirname "$model")/../knots/knots.onnx" --shape scan=1,3,64,64 --isa sse4 --threads 1 \
    -o "$work/less.lathe" --static-kit "$work/less" >/dev/null 2>&1; then
    ${CXX:-c++} -O1 -std=c++20 -ffunction-sections -static -Wl,--gc-sections -I "$work/prefix/include" "$work/less/main.cpp" "$work/less/needed.cpp" \
      -Wa,-I,"$work/less" "$work/less/model.S" "$(find "$work/prefix" -name libmellowlathe_deploy.a)" -o "$work/less_program" 2>>"$work/build.log"
    "$work/less_program" | grep -q '^cells: '
  fi
  echo "a program of its own: $(($(stat -c %s "$program") / 1024)) KiB with its $(($(stat -c %s "$work/kit/model.lathe") / 1024)) KiB of archive; $(echo "$said" | head -1)"
  # What it cannot do is said when the kit is made.
  if "$work/prefix/bin/lathe" ship "$(dirname "$model")/../chatter/chatter.onnx" --states found --static-kit "$work/none" >/dev/null 2>"$work/error"; then
    echo "a model that keeps states was taken"; exit 1
  fi
  grep -q 'link the whole library of deployment' "$work/error"
fi

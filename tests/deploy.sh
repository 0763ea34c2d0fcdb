#!/usr/bin/env bash
# The C example: ships the demo model, runs it through the library of deployment, and holds its answer against the references.
# Usage: deploy.sh TOOL DEPLOY_PROGRAM DEMO_FOLDER WORK_FOLDER
set -eu
tool=$1 deploy=$2 demo=$3 work=$4
rm -rf "$work" && mkdir -p "$work"
"$tool" ship "$demo/grain.onnx" -o "$work/grain.lathe" >/dev/null
/usr/bin/python3 - "$demo" "$work" <<'PY'
import sys, numpy as np
demo, work = sys.argv[1:]
x = next(iter(np.load(f"{demo}/reference_inputs.npz").values()))[:1].astype(np.float32)
y = next(iter(np.load(f"{demo}/reference_outputs.npz").values()))[0]
x.tofile(f"{work}/input.raw")
open(f"{work}/expected", "w").write(f"class {int(y.argmax())} ")
open(f"{work}/percent", "w").write(f"{100 * float(y.max()):.1f} %")
PY
said=$("$deploy" "$work/grain.lathe" "$work/input.raw")
case $said in "$(cat "$work/expected")"*"$(cat "$work/percent")") ;; *) echo "said '$said', expected '$(cat "$work/expected")... $(cat "$work/percent")'"; exit 1 ;; esac
# Errors come as sentences, with an exit code.
head -c 20000 "$work/grain.lathe" >"$work/short.lathe"
if "$deploy" "$work/short.lathe" "$work/input.raw" 2>"$work/error"; then echo "a cut archive was accepted"; exit 1; fi
grep -q "cut short" "$work/error"
# It links nothing that reads models or pictures.
if ldd "$deploy" | grep -Eq 'protobuf|libpng|libjpeg|libzip|mellowlathe\.so'; then ldd "$deploy"; exit 1; fi
cp "$deploy" "$work/stripped" && strip "$work/stripped"
echo "$said; the program is $(($(stat -c %s "$work/stripped") / 1024)) KiB, stripped"

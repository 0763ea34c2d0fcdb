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

#!/usr/bin/env bash
# Installs the library, static and shared, and builds and runs a small outside project against each
# installed tree, once by find_package and once by pkg-config.
#   install_test.sh SOURCE BUILD    BUILD: a finished static build
set -euo pipefail
source=$1 build=$2
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

try() { # try PREFIX LIBRARY-LINK-FLAG
    local prefix=$1 outside=$work/outside-$(basename "$1")
    cmake -S "$source/tests/outside" -B "$outside" -G Ninja -DCMAKE_PREFIX_PATH="$prefix" >/dev/null
    cmake --build "$outside" >/dev/null
    [ "$("$outside/outside")" = "lamp to bell: no-router-between" ]
    local pc
    pc=$(find "$prefix" -name jackal.pc -printf '%h')
    # shellcheck disable=SC2046
    PKG_CONFIG_PATH=$pc g++ -std=c++20 "$source/tests/outside/outside.cpp" -o "$outside/by-pkg-config" \
        $(PKG_CONFIG_PATH=$pc pkg-config $2 --cflags --libs jackal)
    [ "$(LD_LIBRARY_PATH=$(dirname "$pc") "$outside/by-pkg-config")" = "lamp to bell: no-router-between" ]
    echo "$(basename "$prefix"): find_package and pkg-config work"
}

cmake --install "$build" --prefix "$work/static" >/dev/null
for file in bin/jackal share/jackal/jackal.schema.json share/jackal/demo/skerry.yaml \
    share/man/man1/jackal.1 share/man/man1/jackal-ping.1 \
    share/bash-completion/completions/jackal; do
    [ -s "$work/static/$file" ] || { echo "$file was not installed"; exit 1; }
done
"$work/static/bin/jackal" verify "$work/static/share/jackal/demo/skerry.yaml" >/dev/null
try "$work/static" --static

# Unoptimised, as only its linking is asked here.
cmake -S "$source" -B "$build/shared" -G Ninja -DCMAKE_BUILD_TYPE=Debug \
    -DCMAKE_CXX_FLAGS_DEBUG=-O0 -DCMAKE_UNITY_BUILD=ON -DBUILD_SHARED_LIBS=ON \
    -DJACKAL_LIBRARY_ONLY=ON >/dev/null
cmake --build "$build/shared" >/dev/null
cmake --install "$build/shared" --prefix "$work/shared" >/dev/null
try "$work/shared" --shared

# Nothing but Jackal's own names leaves the shared library.
library=$(find "$work/shared" -name 'libjackal.so')
strangers=$(nm -DC --defined-only "$library" | awk '$2 == "T"' | cut -d' ' -f3- | grep -v 'jackal::' || true)
[ -z "$strangers" ] || { echo "the shared library shows: $strangers"; exit 1; }

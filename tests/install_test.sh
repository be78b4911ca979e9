#!/usr/bin/env bash
# Installs what was built, and builds and runs a small outside project against the installed tree,
# once by find_package and once by pkg-config.
#   install_test.sh SOURCE BUILD static|shared    BUILD: a finished build of that kind
set -euo pipefail
source=$1 build=$2 kind=$3
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
prefix=$work/$kind outside=$work/outside

cmake --install "$build" --prefix "$prefix" >/dev/null
for file in bin/jackal share/jackal/jackal.schema.json share/jackal/demo/skerry.yaml \
    share/man/man1/jackal.1 share/man/man1/jackal-ping.1 \
    share/bash-completion/completions/jackal; do
    [ -s "$prefix/$file" ] || { echo "$file was not installed"; exit 1; }
done
pc=$(find "$prefix" -name jackal.pc -printf '%h')
export LD_LIBRARY_PATH=${pc%/pkgconfig} PKG_CONFIG_PATH=$pc
"$prefix/bin/jackal" verify "$prefix/share/jackal/demo/skerry.yaml" >/dev/null

cmake -S "$source/tests/outside" -B "$outside" -G Ninja -DCMAKE_PREFIX_PATH="$prefix" >/dev/null
cmake --build "$outside" >/dev/null
[ "$("$outside/outside")" = "lamp to bell: no-router-between" ]
# shellcheck disable=SC2046
g++ -std=c++20 "$source/tests/outside/outside.cpp" -o "$outside/by-pkg-config" \
    $(pkg-config "--$kind" --cflags --libs jackal)
[ "$("$outside/by-pkg-config")" = "lamp to bell: no-router-between" ]

# Nothing but Jackal's own names leaves the shared library.
if [ "$kind" = shared ]; then
    library=$(find "$prefix" -name 'libjackal.so')
    strangers=$(nm -DC --defined-only "$library" | awk '$2 == "T"' | cut -d' ' -f3- | grep -v 'jackal::' || true)
    [ -z "$strangers" ] || { echo "the shared library shows: $strangers"; exit 1; }
fi

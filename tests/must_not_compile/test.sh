#!/usr/bin/env bash
# Each program here must compile as it stands, and be refused with the mistake that it shows.
#   test.sh COMPILER SOURCE
set -euo pipefail
compiler=$1 source=$2
failed=0
for program in "$source"/tests/must_not_compile/*.cpp; do
    compile=("$compiler" -std=c++20 -fsyntax-only -I "$source/include" "$program")
    "${compile[@]}" || failed=1
    if "${compile[@]}" -DMISTAKE 2>/dev/null; then
        echo "$(basename "$program") compiles with its mistake"
        failed=1
    fi
done
exit $failed

// How files are written: whole or not at all, by one writer at a time, with what they had.
#include "program.h"

#include <doctest/doctest.h>
#include <sys/stat.h>
#include <unistd.h>

namespace {

// Runs a shell script in a folder of its own, with J the program and a plan p.yaml.
Printed in_folder(const std::string& script) {
    return run("d=$(mktemp -d) && cd $d && J='" TOOL "' && cat > p.yaml <<'END'\n"
               "lab: x\nsites: {s: {space: 10.0.0.0/16}}\nsubnets: {a: {site: s, hosts: 9}, "
               "b: {site: s, prefix: 10.0.7.0/24}}\nguests: {g: {nics: [{subnet: a}]}}\nEND\n"
               + script + "\nstatus=$?; cd /; rm -rf $d; exit $status");
}

} // namespace

TEST_CASE("what is written leaves nothing beside it, and keeps mode, owner and link") {
    CHECK(
        in_folder("chmod 640 p.yaml; ln -s p.yaml l.yaml; $J addresses l.yaml --pin >/dev/null && "
                  "[ -L l.yaml ] && stat -c %a p.yaml && ls -A | tr '\\n' ' '")
            .text
        == "640\nl.yaml p.yaml ");
    if (geteuid() == 0) {
        CHECK(in_folder("chown 1234:1235 p.yaml; $J addresses p.yaml --pin >/dev/null; "
                        "stat -c %u:%g p.yaml")
                  .text
              == "1234:1235\n");
    }
    CHECK(in_folder("$J new ring -o p.yaml 2>&1; head -1 p.yaml").text
          == "jackal: p.yaml: cannot be written: it exists already; --replace takes its place\n"
             "lab: x\n");
    CHECK(in_folder("$J new ring -o p.yaml --replace >/dev/null; ls -A; head -c 9 p.yaml").text
          == "p.yaml\n# A ring ");
    CHECK(in_folder("$J new ring -o - | head -c 9; ls -A").text == "# A ring p.yaml\n");
}

TEST_CASE("what a killed writer left is gone with the next one") {
    CHECK(in_folder("cp p.yaml .p.yaml.0123abcd.part; cp p.yaml .q.yaml.0123abcd.part\n"
                    "exec 9< .p.yaml.0123abcd.part; flock -n 9; $J addresses p.yaml --pin "
                    ">/dev/null; ls -A | "
                    "grep -c '[.]p.yaml'; exec 9<&-; $J addresses p.yaml --renumber b=10.0.9.0/24 "
                    "--write >/dev/null; ls -A | grep part")
              .text
          == "1\n.q.yaml.0123abcd.part\n");
}

TEST_CASE("of several writers none undoes what another wrote") {
    // Each either writes its change or says that the file has changed.
    Printed all =
        in_folder("cp p.yaml before.yaml\n"
                  "for i in 1 2 3 4 5 6 7 8 9 10 11 12; do\n"
                  "  cp before.yaml p.yaml\n"
                  "  $J addresses p.yaml --pin >pin.out 2>&1 & a=$!\n"
                  "  $J addresses p.yaml --renumber b=10.0.9.0/24 --write >move.out 2>&1 & b=$!\n"
                  "  wait $a; pinned=$?; wait $b; moved=$?\n"
                  "  [ $pinned = 0 ] && ! grep -q '^pinned:' p.yaml && echo lost pin\n"
                  "  [ $moved = 0 ] && ! grep -q 'b: .*10.0.9.0/24' p.yaml && echo lost move\n"
                  "  [ $pinned = 0 ] || grep -q 'it has changed' pin.out || cat pin.out\n"
                  "  [ $moved = 0 ] || grep -q 'it has changed' move.out || cat move.out\n"
                  "done; ls -A | grep part");
    CHECK(all.text == "");
}

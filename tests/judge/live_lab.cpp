#include "live_lab.h"

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>

namespace judge {

using namespace jackal;

void fail(const std::string& what) {
    throw std::runtime_error(fmt::format("{}: {}", what, std::strerror(errno)));
}

LiveLab::LiveLab(const routing::Settled& settled, const exports::ScriptOptions& options)
    : lab_(settled.lab()) {
    char folder[] = "/tmp/judge-XXXXXX";
    if (mkdtemp(folder) == nullptr)
        fail("mkdtemp");
    folder_ = folder;
    std::ofstream(folder_ + "/lab.sh") << exports::namespaces_script(settled, options);
    const int result = run("start");
    said_ = output();
    if (result != 0) {
        std::filesystem::remove_all(folder_);
        throw std::runtime_error("the lab does not start:\n" + said_);
    }
}

LiveLab::~LiveLab() {
    run("stop");
    std::filesystem::remove_all(folder_);
}

std::string LiveLab::space_of(lab::MachineId machine) const {
    return fmt::format("{}.{}", lab_.name, lab_.machines[machine].name);
}

int LiveLab::run(const char* verb) const {
    std::string command = fmt::format("sh {0}/lab.sh {1} >{0}/output 2>&1", folder_, verb);
    return std::system(command.c_str());
}

std::string LiveLab::output() const {
    std::ifstream file(folder_ + "/output");
    return {std::istreambuf_iterator<char>(file), {}};
}

} // namespace judge

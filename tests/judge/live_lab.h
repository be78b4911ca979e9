// A lab in network namespaces, brought up by the script that Jackal writes.
#pragma once

#include "jackal/jackal.h"

namespace judge {

/// Throws std::runtime_error with what was to be done and what errno says of it.
[[noreturn]] void fail(const std::string& what);

/// While it lives, the lab runs. Throws std::runtime_error if it does not start.
class LiveLab {
  public:
    explicit LiveLab(const jackal::routing::Settled& settled,
                     const jackal::exports::ScriptOptions& options = {});
    LiveLab(const LiveLab&) = delete;
    LiveLab& operator=(const LiveLab&) = delete;
    ~LiveLab();

    std::string space_of(jackal::lab::MachineId machine) const;
    /// What the script said when it started the lab.
    const std::string& said() const { return said_; }

  private:
    int run(const char* verb) const;
    std::string output() const;

    const jackal::lab::Lab& lab_;
    std::string folder_;
    std::string said_;
};

} // namespace judge

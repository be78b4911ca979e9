// Work in a process of its own: what it takes, and how it ends, is nobody else's.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>

namespace jackal::cli {

using Say = std::function<void(std::string_view)>;

/// How work in a child process came to its end.
struct Ending {
    enum class How : std::uint8_t {
        done,
        thrown,  ///< by an exception
        stopped, ///< by a limit
    };
    How how = How::done;
    std::string why; ///< what the exception says, or which limit it was
};

/// Does `work` in a child process with the limits of one answer, and hands what it says, text by
/// text, to `take` as it comes; what that throws ends the child. Throws std::system_error if there
/// can be no child.
///
///     std::string text;
///     Ending ending = in_child([&](const Say& say) { say(answer()); },
///                              [&](std::string said) { text = std::move(said); });
Ending in_child(const std::function<void(const Say&)>& work,
                const std::function<void(std::string)>& take);

} // namespace jackal::cli

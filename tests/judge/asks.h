// Questions and answers that stand in the comments at the end of a plan:
//
//     # desk to 10.50.0.3 TTL 2: reply, TTL 64
//     # desk to pump SIZE 1277: silence
#pragma once

#include "engine.h"

namespace judge {

struct Asked {
    Question question;
    std::string wanted; ///< as to_string(Answer) says it
};

/// The questions in `text`, the text of the plan of `lab`. SIZE is in bytes behind the ICMP header.
std::vector<Asked> asks_of(const std::string& text, const jackal::lab::Lab& lab);

} // namespace judge

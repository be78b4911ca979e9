#include "jackal/export/json.h"

#include "jackal/limits.h"

namespace jackal::exports {

std::optional<std::size_t> too_deep_at(std::string_view text) {
    std::size_t depth = 0;
    bool is_quoted = false;
    for (std::size_t at = 0; at < text.size(); ++at) {
        const char c = text[at];
        if (is_quoted && c == '\\') {
            ++at;
        } else if (c == '"') {
            is_quoted = !is_quoted;
        } else if (!is_quoted && (c == '[' || c == '{')) {
            if (++depth > limits::document_depth)
                return at;
        } else if (!is_quoted && (c == ']' || c == '}') && depth != 0) {
            --depth;
        }
    }
    return std::nullopt;
}

} // namespace jackal::exports

#include "lsp/messages.h"

#include <charconv>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::cli::lsp {

namespace {

// Without CR LF; nothing at the end of the stream, or beyond what a header may have.
std::optional<std::string> read_line(std::FILE* stream) {
    constexpr std::size_t most = 4'096;
    std::string line;
    for (int c = std::getc(stream); c != EOF; c = std::getc(stream)) {
        if (c == '\n') {
            if (line.ends_with('\r'))
                line.pop_back();
            return line;
        }
        if (line.size() == most)
            return std::nullopt;
        line += static_cast<char>(c);
    }
    return std::nullopt;
}

bool is_length(std::string_view line, std::size_t& length) {
    constexpr std::string_view field = "content-length:";
    if (line.size() < field.size())
        return false;
    for (std::size_t i = 0; i < field.size(); ++i)
        if ((line[i] >= 'A' && line[i] <= 'Z' ? line[i] - 'A' + 'a' : line[i]) != field[i])
            return false;
    line.remove_prefix(std::min(line.find_first_not_of(' ', field.size()), line.size()));
    auto [end, error] = std::from_chars(line.data(), line.data() + line.size(), length);
    return error == std::errc{} && length <= most_message_bytes;
}

} // namespace

std::optional<std::string> read_message(std::FILE* stream) {
    std::optional<std::size_t> length;
    bool is_first = true;
    for (;;) {
        const auto line = read_line(stream);
        if (!line && is_first && std::feof(stream))
            return std::nullopt;
        if (!line || (line->empty() && !length))
            throw std::runtime_error(
                fmt::format("a message without a usable Content-Length, which is at most {}",
                            most_message_bytes));
        is_first = false;
        if (line->empty())
            break;
        if (std::size_t found = 0; is_length(*line, found))
            length = found;
    }
    std::string content(*length, '\0');
    if (std::fread(content.data(), 1, content.size(), stream) != content.size())
        return std::nullopt;
    return content;
}

bool write_message(std::FILE* stream, const json& message) {
    // What is not UTF-8 in a plan is shown as such.
    const std::string content = message.dump(-1, ' ', false, json::error_handler_t::replace);
    const std::string text = fmt::format("Content-Length: {}\r\n\r\n{}", content.size(), content);
    return std::fwrite(text.data(), 1, text.size(), stream) == text.size()
           && std::fflush(stream) == 0;
}

json response(const json& id, json result) {
    return {{"jsonrpc", "2.0"}, {"id", id}, {"result", std::move(result)}};
}

json error_response(const json& id, ErrorCode code, const std::string& message) {
    return {{"jsonrpc", "2.0"},
            {"id", id},
            {"error", {{"code", static_cast<int>(code)}, {"message", message}}}};
}

json notification(const std::string& method, json params) {
    return {{"jsonrpc", "2.0"}, {"method", method}, {"params", std::move(params)}};
}

json request(const json& id, const std::string& method, json params) {
    return {{"jsonrpc", "2.0"}, {"id", id}, {"method", method}, {"params", std::move(params)}};
}

std::string path_of(const std::string& uri) {
    constexpr std::string_view scheme = "file://";
    if (!uri.starts_with(scheme))
        return uri;
    std::string path;
    for (std::size_t i = uri.find('/', scheme.size()); i < uri.size(); ++i) {
        unsigned value = 0;
        const char* digits = uri.data() + i + 1;
        if (uri[i] == '%' && i + 2 < uri.size()
            && std::from_chars(digits, digits + 2, value, 16).ptr == digits + 2) {
            path += static_cast<char>(value);
            i += 2;
        } else {
            path += uri[i];
        }
    }
    return path.empty() ? uri : path;
}

} // namespace jackal::cli::lsp

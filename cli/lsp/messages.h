// Messages of JSON-RPC 2.0 with the header of the Language Server Protocol 3.17, base protocol.
#pragma once

#include <cstdio>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>

namespace jackal::cli::lsp {

using json = nlohmann::json;

enum class ErrorCode : int {
    parse_error = -32700,
    invalid_request = -32600,
    method_not_found = -32601,
    invalid_params = -32602,
    not_initialized = -32002,
    request_failed = -32803,
    content_modified = -32801,
    request_cancelled = -32800,
};

/// The longest message that is read.
constexpr std::size_t most_message_bytes = std::size_t{64} << 20;

/// The content of the next message; nothing at the end of the stream. Throws std::runtime_error
/// where what follows is no message.
std::optional<std::string> read_message(std::FILE* stream);

/// Writes a message; false if nobody takes it.
bool write_message(std::FILE* stream, const json& message);

json response(const json& id, json result);
json error_response(const json& id, ErrorCode code, const std::string& message);
json notification(const std::string& method, json params);
json request(const json& id, const std::string& method, json params);

/// The path of a `file:` URI (RFC 8089), or the URI itself.
std::string path_of(const std::string& uri);

} // namespace jackal::cli::lsp

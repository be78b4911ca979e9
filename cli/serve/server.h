// The page over HTTP, on this computer alone.
#pragma once

#include "child.h"
#include "serve/live.h"

#include <functional>
#include <httplib.h>
#include <optional>
#include <semaphore>

namespace jackal::cli::serve {

/// Serves what `live` shows at http://127.0.0.1:PORT/TOKEN/. Whoever asks for another host, comes
/// from a page of another origin, or does not know the token is refused.
class Server {
  public:
    /// A port of 0 is any that is free. Throws NotAsked if it cannot be had.
    Server(Live& live, int port);

    /// With the token.
    std::string url() const;
    /// Until the program ends.
    void run();

  private:
    using Answer = std::function<std::string(const Shown&, const httplib::Request&)>;

    bool is_welcome(const httplib::Request& request) const;
    void answer(const std::string& path, Answer work);
    std::optional<std::vector<std::string>> texts_of(httplib::Response& response,
                                                     int status_if_thrown,
                                                     const std::function<void(const Say&)>& work);
    void add_page();
    void add_questions();
    void add_mending();

    Live& live_;
    httplib::Server server_;
    std::string token_;
    int port_ = 0;
    std::counting_semaphore<> turns_{4}; ///< answers that are worked out at a time
};

} // namespace jackal::cli::serve

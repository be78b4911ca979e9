// A language server (Language Server Protocol 3.17) for plan files.
//
// One thread reads messages, one looks at texts (worker.h), and the one that calls run() answers:
// from what is known of the newest text that read, with places moved along where the text has
// changed since. So no answer waits for a check.
#pragma once

#include "lsp/messages.h"
#include "lsp/worker.h"

#include "jackal/editor/position.h"

#include <variant>

namespace jackal::cli::lsp {

class Server {
  public:
    Server(std::FILE* in, std::FILE* out);
    Server(const Server&) = delete;
    Server& operator=(const Server&) = delete;

    /// Answers until the client says `exit` or closes the stream. True if it said `shutdown`
    /// before.
    bool run();

  private:
    // A plan that is open in the editor.
    struct Document {
        std::string text;
        std::int64_t version = 0;
        Known last;                               // of the newest text that was looked at
        Known readable;                           // of the newest that is a plan, with its check
        std::shared_ptr<const editor::View> yaml; // of the newest that is YAML
    };
    // A request to change something, until it is done.
    struct Pending {
        json id;    // of the request
        json token; // of its progress, or null
        std::string uri;
        std::int64_t version = 0;
    };
    struct Closed {
        std::string why; ///< empty: the client has
    };
    using Event = std::variant<std::string, Known, Done, Closed>;

    // What came from the threads.
    struct Mailbox {
        void push(Event event);
        Event pop();

        std::mutex mutex;
        std::condition_variable arrived;
        std::deque<Event> events;
    };

    void send(const json& message);

    void take(const json& message, const json& method);
    void take(const Known& known);
    void take(const Done& done);
    void take_request(const json& id, const std::string& method, const json& params);
    void take_notification(const std::string& method, const json& params);
    void take_response(const json& message);

    void initialize(const json& params);
    json capabilities() const;
    void open(const json& params);
    void change(const json& params);
    void publish(const std::string& uri, const Document& document);

    json hover(const json& params);
    json complete(const json& params);
    json definition(const json& params);
    json references(const json& params, bool as_highlights);
    json prepare_rename(const json& params);
    json rename(const json& params);
    json symbols(const json& params);
    json hints(const json& params);
    json actions(const json& params);
    void execute(const json& id, const json& params);
    void cancel(const json& params);

    // The name that a request is about, and where places of its outline are now.
    struct Pointed {
        const editor::Outline& outline;
        editor::Shift shift;
        editor::Positions positions;
        const editor::Mention* mention = nullptr;
    };
    std::optional<Pointed> pointed(const json& params) const;
    const Document& document(const json& params) const;
    json workspace_edit(const std::string& uri, std::int64_t version, const std::string& text,
                        const std::vector<editor::TextChange>& changes) const;

    std::FILE* out_;
    std::shared_ptr<Mailbox> mailbox_; // the reader's, too, which may outlive the server

    bool is_initialized_ = false;
    bool is_shut_down_ = false;
    bool takes_versions_ = false; // of documents that are to be changed
    bool takes_markdown_ = true;
    editor::Unit unit_ = editor::Unit::utf16;
    std::map<std::string, Document> documents_; // by URI
    std::map<std::uint64_t, Pending> pending_;  // by number of the task
    std::map<std::uint64_t, Pending> applying_; // by id of our request
    std::uint64_t last_number_ = 0;

    std::unique_ptr<Worker> worker_;
};

} // namespace jackal::cli::lsp

// The live page: the plan is changed in its file, and asked and mended in a real browser.
#include "files.h"
#include "webdriver.h"

#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <stdlib.h>
#include <sys/stat.h>
#include <thread>

namespace {

const std::string mistake = SOURCE_DIR "/demo/mistakes/no-return-route.yaml";

// A plan of its own that is served.
class Served {
  public:
    explicit Served(const std::string& text) {
        char name[] = "/tmp/jackal-serve-XXXXXX";
        REQUIRE(mkdtemp(name) != nullptr);
        folder_ = name;
        write(text);
        server_ = std::make_unique<Running>(std::vector<std::string>{TOOL, "serve", path()});
        url_ = server_->line();
        REQUIRE(url_.starts_with("http://127.0.0.1:"));
    }
    Served(const Served&) = delete;
    Served& operator=(const Served&) = delete;
    ~Served() {
        server_.reset();
        std::filesystem::remove_all(folder_);
    }

    std::string path() const { return folder_ + "/lab.yaml"; }
    const std::string& url() const { return url_; }
    std::string host() const { return url_.substr(7, url_.find('/', 7) - 7); }
    std::string token_path() const { return url_.substr(url_.find('/', 7)); }
    int port() const { return std::stoi(host().substr(10)); }
    void write(const std::string& text) const {
        std::ofstream(path() + ".new") << text;
        std::filesystem::rename(path() + ".new", path());
    }
    Running& server() { return *server_; }

  private:
    std::string folder_;
    std::unique_ptr<Running> server_;
    std::string url_;
};

} // namespace

TEST_CASE("serve: the page follows the file, tells of its problems, asks, and mends it") {
    const std::string before = text_of(mistake);
    Served served(before);
    WebDriver browser;
    browser.open(served.url() + "#findings");
    CHECK(browser.wait_for(
        "return document.querySelector('#view').innerText.includes('no-return-route')"));

    served.write("lab: broken\nsubnets: [\n");
    CHECK(browser.wait_for(
        "return document.querySelector('#problems').innerText.includes('lab.yaml:')"));
    CHECK(browser.run("return document.querySelector('#lab').textContent") == "one-way");

    std::string renamed = before;
    renamed.replace(renamed.find("one-way"), 7, "other-way");
    served.write(renamed);
    CHECK(browser.wait_for("return document.querySelector('#lab').textContent === 'other-way'"
                           " && document.querySelector('#problems').hidden"));

    browser.run("location.hash = 'ask'");
    CHECK(browser.wait_for("return document.querySelector('#view form') !== null"));
    browser.run("document.querySelector('[name=from]').value = 'desk';"
                "document.querySelector('[name=to]').value = 'pump';"
                "document.querySelector('#view form').requestSubmit()");
    CHECK(browser.wait_for(
        "return document.querySelector('#view').innerText.includes('no-return-route')"));

    // By clicking two machines in the picture.
    auto click = [&](const std::string& within, const std::string& text) {
        return browser.wait_for("const all = [...document.querySelectorAll('" + within
                                + "')]; const one = all.find(each => each.textContent.includes('"
                                + text
                                + "')); if (one) one.dispatchEvent(new MouseEvent('click', "
                                  "{bubbles: true})); return one !== undefined");
    };
    browser.run("location.hash = 'picture'");
    CHECK(click("#picture-tools button", "ask between two machines"));
    CHECK(click(".picture text", "pump/"));
    CHECK(click(".picture text", "desk/"));
    CHECK(browser.wait_for("return location.hash === '#ask/pump/desk' && "
                           "document.querySelector('#view h2') !== null"));

    // A ping while the desk's NIC is cut and mended.
    browser.run("location.hash = 'ask/desk/hall-r1'");
    CHECK(browser.wait_for("return document.querySelector('[name=from]').value === 'desk' && "
                           "document.querySelector('#view h2') !== null"));
    // Away from a question before it was asked: the browser has nothing to complain of.
    browser.run("location.hash = 'ask/pump/desk'; dispatchEvent(new Event('hashchange'));"
                "location.hash = 'ask/desk/hall-r1'");
    CHECK(browser.wait_for("return document.querySelector('[name=from]').value === 'desk' && "
                           "document.querySelector('#view h2') !== null"));
    browser.run("const kind = document.querySelector('[name=kind]'); kind.value = 'timeline';"
                "kind.dispatchEvent(new Event('change'));"
                "document.querySelector('[name=cut-at]').value = '10s=desk/eth0';"
                "document.querySelector('[name=mend-at]').value = '20s=desk/eth0';"
                "document.querySelector('#view form').requestSubmit()");
    CHECK(browser.wait_for(
        "return document.querySelector('#view').innerText.includes('50 of 60 came back')"));
    CHECK(browser.run("return document.querySelectorAll('.strip .out-of-reach').length") == 1);

    browser.run("location.hash = 'findings'");
    CHECK(click("#view button", "what would mend"));
    CHECK(click("#view button", "write it into the plan"));
    CHECK(browser.wait_for(
        "return document.querySelector('#verdict').innerText.includes('0 findings')"));
    CHECK(has(text_of(served.path()), "{to: hall, via: hall-r1}"));
    CHECK(browser.complaints() == "");
}

TEST_CASE("serve: who does not know the address, or comes from elsewhere, is refused") {
    Served served(text_of(mistake));
    httplib::Client client("127.0.0.1", served.port());
    const std::string page = served.token_path();
    auto status = [&](const std::string& path, const httplib::Headers& headers) {
        auto answer = client.Get(path.c_str(), headers);
        return answer ? answer->status : 0;
    };
    CHECK(status(page, {}) == 200);
    CHECK(status(page + "api/ping?from=desk&to=hall-r1", {}) == 200);
    CHECK(status("/", {}) == 403);
    std::string wrong = page;
    wrong[1] = wrong[1] == '0' ? '1' : '0';
    CHECK(status(wrong, {}) == 403);
    CHECK(status(page, {{"Host", "lab.example.org"}}) == 403);
    CHECK(status(page, {{"Origin", "http://lab.example.org"}}) == 403);
    CHECK(status(page, {{"Origin", "http://" + served.host()}}) == 200);
    CHECK(status(page + "api/ping?from=desk&to=nobody", {}) == 400);
    CHECK(status(page + "api/ping?from=desk&to=pump&cut=moon", {}) == 400);
    CHECK(status(page + "api/ping?from=desk&to=pump&service=tea", {}) == 400);
    CHECK(status(page + "api/connect?from=desk&to=hall-r1", {}) == 400);
    CHECK(status(page + "api/connect?from=desk&to=hall-r1&service=tcp/22", {}) == 200);
    CHECK(status(page + "api/timeline?from=desk&to=hall-r1&cut-at=1s%3Ddesk", {}) == 200);
    CHECK(status(page + "api/timeline?from=desk&to=hall-r1&cut-at=moon", {}) == 400);
    CHECK(status(page + "api/timeline?from=desk&to=hall-r1&mend-at=1s%3Ddesk", {}) == 400);
    CHECK(status(page + "api/timeline?from=desk&to=hall-r1&count=1e9", {}) == 400);
    CHECK(status(page + "elsewhere", {}) == 404);

    auto mended = client.Post((page + "api/mend").c_str(), "another difference", "text/plain");
    REQUIRE(mended);
    CHECK(mended->status == 409);
    CHECK(text_of(served.path()) == text_of(mistake));
    CHECK(served.server().stop() < std::chrono::milliseconds(1000));
}

TEST_CASE("serve: a question or a file that takes too much is refused, and the server goes on") {
    setenv("JACKAL_SECONDS", "1", 1);
    const std::string good = text_of(mistake);
    Served served(good);
    unsetenv("JACKAL_SECONDS");
    httplib::Client client("127.0.0.1", served.port());
    client.set_read_timeout(30);
    const std::string page = served.token_path();
    const std::string ping = "api/ping?from=desk&to=hall-r1";
    auto get = [&](const std::string& path, const httplib::Headers& headers = {}) {
        auto answer = client.Get((page + path).c_str(), headers);
        REQUIRE(answer);
        return *answer;
    };
    auto problem = [&] { return nlohmann::json::parse(get("version").body)["problems"].dump(); };
    auto comes = [&](const std::string& words) {
        for (int i = 0; i < 400; ++i) {
            if (has(problem(), words))
                return true;
            std::this_thread::sleep_for(std::chrono::milliseconds(25));
        }
        return false;
    };
    // A lab that takes more than its second.
    std::string large = "lab: large\nsubnets:\n";
    std::string routers = "routers:\n";
    for (int i = 0; i < 900; ++i) {
        large += fmt::format("  n{}: {{size: /28}}\n", i);
        routers +=
            fmt::format("  r{0}: {{nics: [{{subnet: n{0}}}, {{subnet: n{1}}}], ospf: {{areas: "
                        "{{0: all}}}}}}\n",
                        i, (i + 1) % 900);
    }
    served.write(large + "guests: {g: {count: 3000, nics: [{subnet: n0}]}}\n" + routers);
    CHECK(comes("more than 1 s of processor time"));
    CHECK(get(ping).status == 200); // of what could be read last
    std::filesystem::remove(served.path());
    REQUIRE(mkfifo(served.path().c_str(), 0600) == 0);
    CHECK(comes("no regular file"));
    std::filesystem::remove(served.path());
    served.write(good);
    CHECK(comes("\"\""));
    // Errors are JSON, ranges are ignored, and who waits keeps nobody waiting.
    for (const std::string& path : {std::string("elsewhere"), std::string(20'000, 'a')})
        CHECK(nlohmann::json::parse(get(path).body).contains("error"));
    std::string many = "bytes=0-";
    for (int i = 0; i < 1'000; ++i)
        many += ",0-";
    // Of a question: the page may get its cuts between two requests.
    CHECK(get(ping, {{"Range", many}}).body == get(ping).body);
    std::vector<std::thread> tabs;
    for (int i = 0; i < 16; ++i)
        tabs.emplace_back([&] {
            httplib::Client tab("127.0.0.1", served.port());
            tab.set_read_timeout(30);
            tab.Get((page + "version?after=999999").c_str());
        });
    std::this_thread::sleep_for(std::chrono::milliseconds(200));
    CHECK(get("api/verify").status == 200); // while they wait, ten seconds
    served.write(good + "\n");              // which lets them go
    for (std::thread& tab : tabs)
        tab.join();
    CHECK(served.server().stop() < std::chrono::milliseconds(1000));
}

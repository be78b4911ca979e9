// A real browser, led by the WebDriver protocol (W3C WebDriver).
#pragma once

#include "program.h"

#include <chrono>
#include <doctest/doctest.h>
#include <httplib.h>
#include <memory>
#include <nlohmann/json.hpp>
#include <signal.h>
#include <string>
#include <thread>
#include <unistd.h>
#include <vector>

/// A program that runs until this is gone.
class Running {
  public:
    explicit Running(const std::vector<std::string>& words) {
        int ends[2];
        REQUIRE(pipe(ends) == 0);
        process_ = fork();
        REQUIRE(process_ >= 0);
        if (process_ == 0) {
            dup2(ends[1], STDOUT_FILENO);
            close(ends[0]);
            close(ends[1]);
            std::vector<char*> arguments;
            for (const std::string& word : words)
                arguments.push_back(const_cast<char*>(word.c_str()));
            arguments.push_back(nullptr);
            execvp(arguments[0], arguments.data());
            _exit(127);
        }
        close(ends[1]);
        output_ = fdopen(ends[0], "r");
    }
    Running(const Running&) = delete;
    Running& operator=(const Running&) = delete;
    ~Running() {
        stop();
        fclose(output_);
    }

    /// The next line that it prints, without its end.
    std::string line() {
        std::string text;
        for (int c = std::fgetc(output_); c != EOF && c != '\n'; c = std::fgetc(output_))
            text += static_cast<char>(c);
        return text;
    }

    /// Interrupts it as Ctrl-C does, and waits for its end; how long that took.
    std::chrono::milliseconds stop() {
        auto before = std::chrono::steady_clock::now();
        if (process_ > 0) {
            kill(process_, SIGINT);
            waitpid(process_, nullptr, 0);
        }
        process_ = 0;
        return std::chrono::duration_cast<std::chrono::milliseconds>(
            std::chrono::steady_clock::now() - before);
    }

  private:
    pid_t process_ = 0;
    FILE* output_ = nullptr;
};

/// One window of Chromium.
class WebDriver {
  public:
    WebDriver()
        : driver_({"chromedriver", "--port=" + std::to_string(port), "--silent"}),
          client_("127.0.0.1", port) {
        client_.set_read_timeout(60);
        nlohmann::json wanted;
        wanted["capabilities"]["alwaysMatch"] = {
            {"browserName", "chrome"},
            {"goog:chromeOptions",
             {{"args", nlohmann::json::array({"--headless", "--no-sandbox", "--disable-gpu",
                                              "--window-size=1280,800"})}}},
            {"goog:loggingPrefs", {{"browser", "ALL"}}}};
        for (int tries = 0; tries < 100 && session_.empty(); ++tries) {
            if (auto answer = client_.Post("/session", wanted.dump(), "application/json"))
                session_ = nlohmann::json::parse(answer->body)["value"].value("sessionId", "");
            if (session_.empty())
                std::this_thread::sleep_for(std::chrono::milliseconds(100));
        }
        REQUIRE(!session_.empty());
    }
    WebDriver(const WebDriver&) = delete;
    WebDriver& operator=(const WebDriver&) = delete;
    ~WebDriver() { client_.Delete(("/session/" + session_).c_str()); }

    void open(const std::string& url) { post("url", {{"url", url}}); }

    /// What the body of a function returns.
    nlohmann::json run(const std::string& script) {
        return post("execute/sync", {{"script", script}, {"args", nlohmann::json::array()}});
    }

    /// Asks until the body of a function returns true; false after ten seconds.
    bool wait_for(const std::string& script) {
        for (int tries = 0; tries < 1000; ++tries) {
            if (run(script) == true)
                return true;
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
        }
        return false;
    }

    /// What the browser has to complain of since the last time.
    std::string complaints() {
        std::string all;
        for (const auto& entry : post("se/log", {{"type", "browser"}}))
            all += entry.value("message", "") + "\n";
        return all;
    }

  private:
    static constexpr int port = 45'517;

    nlohmann::json post(const std::string& what, const nlohmann::json& body) {
        auto answer = client_.Post(("/session/" + session_ + "/" + what).c_str(), body.dump(),
                                   "application/json");
        REQUIRE(answer);
        CAPTURE(answer->body);
        REQUIRE(answer->status == 200);
        return nlohmann::json::parse(answer->body)["value"];
    }

    Running driver_;
    httplib::Client client_;
    std::string session_;
};

// What kernels do that a reader of the RFCs would not expect: one plan each, with questions and the
// answers that a kernel gave. `judge` asks the kernel again; this asks the packet walk, and needs
// no privileges.
#include "asks.h"

#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>

using namespace jackal;

TEST_CASE("every surprise is answered as the kernel answered it") {
    std::size_t asked = 0;
    for (const auto& entry : std::filesystem::directory_iterator(SURPRISES)) {
        std::ifstream file(entry.path());
        std::string text(std::istreambuf_iterator<char>(file), {});
        std::string name = entry.path().stem();
        CAPTURE(name);
        plan::Reading reading = plan::read(text, name);
        REQUIRE(reading.plan.has_value());
        CHECK(reading.plan->entries().lab == name);
        lab::Lab lab = lab::build(*reading.plan);
        routing::Settled settled = routing::settle(lab);
        CHECK_NOTHROW(reach::check(settled));
        auto asks = judge::asks_of(text, lab);
        CHECK_FALSE(asks.empty());
        for (const judge::Asked& ask : asks) {
            std::string to = net::to_string(ask.question.destination);
            CAPTURE(to);
            judge::Answer answer = judge::ask_walk(settled, {ask.question}).front();
            CHECK(judge::to_string(answer) == ask.wanted);
            ++asked;
        }
    }
    CHECK(asked > 25);
}

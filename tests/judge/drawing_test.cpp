// Pictures of random labs, measured in a browser: no text covers another, or leaves its card.
#include "../program.h"
#include "jackal/jackal.h"
#include "random_lab.h"
#include "seeds.h"

#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>
#include <sstream>

using namespace jackal;
namespace drawing = exports::drawing;

namespace {

// Looks at all pictures of the page and says, as its only text, what is wrong and how much was
// looked at.
constexpr const char* measuring = R"(<script>
const wrong = [];
let texts = 0;
const inside = (a, b) => a.left >= b.left - 2 && a.right <= b.right + 2
                      && a.top >= b.top - 2 && a.bottom <= b.bottom + 2;
for (const picture of document.querySelectorAll("svg")) {
  const all = [...picture.querySelectorAll("text")];
  const boxes = all.map(text => text.getBoundingClientRect());
  texts += all.length;
  all.forEach((text, i) => {
    if (!inside(boxes[i], picture.getBoundingClientRect()))
      wrong.push(picture.id + ": " + text.textContent + " leaves the picture");
    const card = text.parentNode.tagName === "g" && text.parentNode.querySelector(":scope > .card");
    if (card && !inside(boxes[i], card.getBoundingClientRect()))
      wrong.push(picture.id + ": " + text.textContent + " leaves its card");
    for (let k = 0; k < i; ++k)
      if (boxes[i].left < boxes[k].right - 1 && boxes[k].left < boxes[i].right - 1
          && boxes[i].top < boxes[k].bottom - 4 && boxes[k].top < boxes[i].bottom - 4)
        wrong.push(picture.id + ": " + text.textContent + " covers " + all[k].textContent);
  });
}
document.body.textContent = texts + " texts, " + wrong.length + " wrong\n" + wrong.slice(0, 20).join("\n");
</script>)";

} // namespace

TEST_CASE("no text of a picture covers another or leaves its card, as a browser measures them") {
    const std::filesystem::path page =
        std::filesystem::temp_directory_path() / "jackal-pictures.html";
    std::ofstream out(page);
    out << "<!doctype html><meta charset=\"utf-8\"><body>";
    std::size_t pictures = 0;
    for (std::uint64_t seed : judge::seeds(50, 2)) {
        auto reading = plan::read(judge::random_lab(seed).dump(), "random");
        REQUIRE(reading.plan);
        const lab::Lab lab = lab::build(*reading.plan);
        const routing::Settled settled = routing::settle(lab);
        const std::vector<lab::Finding> findings = lab::findings(lab);
        auto question = probe::question(lab, lab.machines[lab::MachineId{0}].name,
                                        lab.machines[lab::MachineId{1}].name);
        REQUIRE(question);
        const probe::PingAnswer answer = probe::ping(settled, *question);
        for (drawing::View view :
             {drawing::View::routes, drawing::View::wires, drawing::View::sites}) {
            drawing::Picture picture =
                drawing::picture(settled, {.view = view, .findings = findings, .answer = &answer});
            std::string svg = drawing::svg(picture, drawing::Theme::light);
            out << "<svg id=\"seed-" << seed << "-" << drawing::to_string(view) << "\" "
                << svg.substr(5);
            ++pictures;
        }
    }
    out << measuring;
    out.close();
    const Printed browser = run("chromium --headless --no-sandbox --disable-gpu --dump-dom 'file://"
                                + page.string() + "' 2>/dev/null");
    std::filesystem::remove(page);
    CHECK(browser.status == 0);
    const std::string& said = browser.text;
    std::size_t at = said.find("<body>");
    REQUIRE(at != said.npos);
    std::istringstream words(said.substr(at + 6));
    std::size_t texts = 0;
    std::string ignored;
    std::size_t wrong = 0;
    words >> texts >> ignored >> wrong;
    CHECK(texts > 20 * pictures);
    INFO(said);
    CHECK(wrong == 0);
}

// The page of a lab, opened from disk in a real browser, and used: clicked, searched, by keyboard.
#include "files.h"
#include "jackal/jackal.h"
#include "program.h"

#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>
#include <stdlib.h>

using namespace jackal;

namespace {

const std::string tool = TOOL " report ";
const std::string demo = SOURCE_DIR "/demo/";

class Browser {
  public:
    Browser() {
        char name[] = "/tmp/jackal-page-XXXXXX";
        REQUIRE(mkdtemp(name) != nullptr);
        folder_ = name;
    }
    Browser(const Browser&) = delete;
    Browser& operator=(const Browser&) = delete;
    ~Browser() { std::filesystem::remove_all(folder_); }

    // The page of a plan.
    std::string report(const std::string& plan) const {
        Printed said = run(tool + plan + " --replace -o " + folder_ + "/page.html 2>&1");
        CAPTURE(said.text);
        REQUIRE(said.status == 0);
        return text_of(folder_ + "/page.html");
    }

    // Opens the page at a fragment, and does the steps of a script, in which say(text) adds a line
    // to what is given back, and rest() lets the page follow what was done.
    std::string use(const std::string& page, const std::string& fragment,
                    const std::string& steps) const {
        std::string changed = page;
        changed.insert(
            changed.rfind("</body>"),
            "<script>(async () => { const said = []; const say = text => said.push(text);"
            "const rest = () => new Promise(done => setTimeout(done, 50));"
            "const all = query => [...document.querySelectorAll(query)];"
            "try { await rest();"
                + steps
                + "} catch (e) { say('thrown ' + e); }"
                  "say('resources ' + performance.getEntriesByType('resource').length);"
                  "document.body.textContent = said.join('\\n'); })();</script>");
        std::ofstream(folder_ + "/used.html") << changed;
        Printed said = run("chromium --headless --no-sandbox --disable-gpu --enable-logging=stderr "
                           "--virtual-time-budget=20000 --window-size=1280,800 --dump-dom 'file://"
                           + folder_ + "/used.html#" + fragment + "' 2>" + folder_ + "/log");
        CHECK(said.status == 0);
        const std::string log = text_of(folder_ + "/log");
        CHECK_MESSAGE(!has(log, "CONSOLE"), log);
        std::size_t body = said.text.find("<body>");
        REQUIRE(body != said.text.npos);
        std::string text = said.text.substr(body + 6);
        CHECK_MESSAGE(has(text, "resources 0"), text);
        CHECK_MESSAGE(!has(text, "thrown"), text);
        return text;
    }

  private:
    std::string folder_;
};

} // namespace

TEST_CASE("a page: a cell is clicked and shows its journey, its cause and what mends it") {
    const Browser browser;
    const std::string page = browser.report(demo + "mistakes/no-return-route.yaml");
    std::string said = browser.use(page, "reach", R"(
        const cell = shownMatrix.cellAt(endOf.get('desk'), endOf.get('pump'));
        cell.dispatchEvent(new MouseEvent('mouseover', {bubbles: true}));
        say(cell.title);
        cell.click(); await rest();
        say(document.getElementById('side').innerText);
        say(location.hash);)");
    CHECK(has(said, "desk to pump: no reply, no-return-route"));
    CHECK(has(said, "tank-r1 has no route back"));
    CHECK(has(said, "routers.tank-r1.routes: add {to: hall, via: hall-r1}"));
    CHECK(has(said, "The way there"));
    CHECK(has(said, "The way back"));
    CHECK(has(said, "#reach/desk/pump"));

    // A colleague who opens that address sees the same; the picture shows the way.
    said = browser.use(page, "reach/desk/pump", R"(
        say(document.querySelector('#side h2').textContent);
        location.hash = 'picture'; await rest();
        say(all('.picture g.on-way').map(each => each.id).join(' '));)");
    CHECK(has(said, "desk to pump"));
    CHECK(has(said, "machine-hall-r1"));
    CHECK(has(said, "segment-tank"));
}

TEST_CASE("a page: the demo's is small, every view opens, a cut changes the matrix") {
    const Browser browser;
    const std::string page = browser.report(demo + "skerry.yaml");
    CHECK(page.size() < 1'000'000);
    std::string said = browser.use(page, "", R"(
        for (const tab of all('nav a').map(each => each.getAttribute('href'))) {
          location.hash = tab; await rest();
          say(tab + ' ' + (document.getElementById('main').innerText.length > 200));
        }
        location.hash = 'cuts'; await rest();
        all('#view a').find(each => each.textContent === 'vessel-r1').click(); await rest();
        say('lost ' + (all('.matrix .lost').length > 10));
        all('.matrix .lost')[0].click(); await rest();
        say(document.getElementById('side').innerText);
        all('#view a').find(each => each.textContent === 'in the picture').click(); await rest();
        say(location.hash);
        say(document.getElementById('side').innerText);
        const shown = '.picture:not([hidden]) ';
        say('cut lines ' + all(shown + '.is-cut .cut-sign').length + ' cards ' + all(shown + 'g[id].is-cut').map(each => each.id).join());
        say('losers ' + (all(shown + 'text.loses').length > 3));
        const without = document.querySelector('#picture-tools select');
        without.value = ''; without.dispatchEvent(new Event('change')); await rest();
        say('whole ' + location.hash + ' ' + all('.is-cut, .cut-sign, .loses').length);
        all(shown + 'g[id^=segment] text').find(each => each.textContent.startsWith('helm')).dispatchEvent(new MouseEvent('click', {bubbles: true})); await rest();
        say('clicked ' + location.hash);
        location.hash = 'machine/stores-r1'; await rest();
        say(all('#side tr').filter(row => row.innerText.includes('ospf')).map(row => row.innerText.split(/\s+/).join(' ')).join('\n'));
        location.hash = 'picture/wires'; await rest();
        say(all('.picture').filter(each => !each.hidden).map(each => each.dataset.view).join());)");
    for (const char* view : {"picture", "reach", "expectations", "addresses", "machines", "cuts"})
        CHECK_MESSAGE(has(said, std::string("#") + view + " true"), said);
    CHECK(has(said, "lost true"));
    CHECK(has(said, "without vessel-r1: no reply"));
    CHECK(has(said, "#picture/routes/vessel-r1"));
    CHECK(has(said, "gets no reply from"));
    CHECK(has(said, "cards machine-vessel-r1"));
    CHECK(!has(said, "cut lines 0"));
    CHECK(has(said, "losers true"));
    CHECK(has(said, "whole #picture/routes 0"));
    CHECK(has(said, "clicked #machine/helm"));
    CHECK(has(said, "10.40.9.0/28 ospf eth1 10.40.8.141 gate-r1"));
    CHECK(has(said, "wires"));
}

TEST_CASE("a page: search finds names and addresses, and the keyboard alone suffices") {
    const Browser browser;
    const std::string page = browser.report(demo + "skerry.yaml");
    std::string said = browser.use(page, "", R"(
        const search = document.getElementById('search');
        const key = (element, name) => element.dispatchEvent(new KeyboardEvent('keydown', {key: name, bubbles: true, cancelable: true}));
        search.value = '10.40.8.20'; search.dispatchEvent(new Event('input'));
        say(document.getElementById('found').innerText);
        key(search, 'Enter'); await rest();
        say(location.hash + ' ' + document.querySelector('#side h2').textContent);
        search.value = 'no such thing'; search.dispatchEvent(new Event('input'));
        say(document.getElementById('found').innerText);
        location.hash = 'reach'; await rest();
        say('stops ' + all('.matrix [role=gridcell]').filter(each => each.tabIndex === 0).length);
        const first = document.querySelector('.matrix [role=gridcell]');
        first.focus(); key(first, 'ArrowRight'); key(document.activeElement, 'ArrowDown');
        say('at ' + (document.activeElement === shownMatrix.cellAt(1, 1)));
        key(document.activeElement, 'Enter'); await rest();
        say('entered ' + (location.hash === '#reach/' + data.ends[1].label + '/' + data.ends[1].label));
        location.hash = 'picture'; await rest();
        const svg = document.querySelector('.picture:not([hidden]) svg');
        const before = svg.style.transform;
        key(document.getElementById('frame'), '+');
        say('zoomed ' + (svg.style.transform !== before));
        say('unnamed ' + all('button, a, input').filter(each => !(each.textContent.trim() || each.getAttribute('aria-label') || each.closest('label'))).length);)");
    CHECK(has(said, "10.40.8.20 hydrophone/eth0"));
    CHECK(has(said, "#machine/hydrophone hydrophone"));
    CHECK(has(said, "nothing of that name"));
    CHECK(has(said, "stops 1"));
    CHECK(has(said, "at true"));
    CHECK(has(said, "entered true"));
    CHECK(has(said, "zoomed true"));
    CHECK(has(said, "unnamed 0"));
}

TEST_CASE("a page: no text of a plan becomes markup or script") {
    const Browser browser;
    const std::string evil =
        "</script><img src=x onerror=alert(1)><b>{{script}} {{data}} &lt;i&gt;";
    const std::string plan = "/tmp/jackal-evil-plan.yaml";
    std::ofstream(plan) << "lab: evil\nabout: '" << evil
                        << "'\nsubnets: {hall: {prefix: 10.1.0.0/24, about: '" << evil
                        << "'}}\nguests: {desk: {about: '" << evil
                        << "', nics: [{subnet: hall}]}, pump: {nics: [{subnet: hall}]}}\n";
    const std::string page = browser.report(plan);
    std::filesystem::remove(plan);
    std::string said = browser.use(page, "reach/desk/pump", R"(
        say('images ' + document.images.length + ' bold ' + all('b').length);
        say('about ' + document.getElementById('about').textContent.length);
        say(document.querySelector('#side strong').textContent);)");
    CHECK(has(said, "images 0 bold 0"));
    CHECK(has(said, "about " + std::to_string(evil.size())));
    CHECK(has(said, "reply"));
}

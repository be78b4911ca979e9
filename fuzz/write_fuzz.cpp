// Pinning, renumbering, changes and the text they come to: every result must be read again, mean
// the same, and be what it is when it is made once more.
#include "jackal/jackal.h"

using namespace jackal;

namespace {

// That the text means what it should has been seen to in there.
void write(const std::string& text, const std::vector<plan::Edit>& edits) {
    plan::Writing written = plan::write(text, edits);
    if (written.text.has_value() != written.problems.empty())
        __builtin_trap();
    if (edits.empty() && written.text && *written.text != text)
        __builtin_trap();
}

// Some of every sort: of what is there and what is not, of lists and single values.
void write_changes(const std::string& text, const plan::Plan& plan) {
    write(text, {});
    for (const plan::Machine& machine : plan.machines) {
        write(text, {plan::set_forwards(plan, machine.name, true),
                     plan::set_machine_up(plan, machine.name),
                     plan::add_route(plan, machine.name, plan::Route::Default{},
                                     *net::parse_address("10.1.0.9")),
                     plan::add_service(plan, machine.name, {net::Protocol::tcp, 80})});
        for (std::size_t i = 0; i < machine.nics.size(); ++i)
            write(text, {plan::set_nic_mtu(plan, machine.name, i, 1400)});
        for (std::size_t i = 0; i < machine.routes.size(); ++i)
            write(text, {plan::remove_route(plan, machine.name, i)});
    }
    for (const plan::Subnet& subnet : plan.subnets)
        write(text, {plan::set_subnet_prefix(plan, subnet.name, *net::parse_prefix("10.77.0.0/24")),
                     plan::remove_dhcp(plan, subnet.name)});
    for (std::size_t i = 0; i < plan.links.size(); ++i)
        write(text, {plan::set_link_up(plan, i), plan::set_link_mtu(plan, i, 1400)});
    for (const plan::Filter& filter : plan.filters)
        write(text, {plan::add_filter_rule(plan, filter.name, 0, {.allows = true})});
}

} // namespace

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    std::string text(reinterpret_cast<const char*>(data), size);
    plan::Reading reading = plan::read(text, "fuzz");
    if (!reading.plan || reading.plan->entries().machines.size() > 24
        || reading.plan->entries().subnets.size() > 24)
        return 0;
    exports::Pinning pinning = exports::pin(text, "fuzz");
    if (pinning.text.has_value() != pinning.problems.empty())
        __builtin_trap();
    if (pinning.text && exports::pin(*pinning.text, "fuzz").text != pinning.text)
        __builtin_trap();
    lab::Lab lab = lab::build(*reading.plan);
    for (const lab::Finding& finding : lab::findings(lab))
        write(text, finding.remedy.edits);
    write_changes(text, reading.plan->written());
    for (const lab::Site& site : lab.sites)
        for (const char* to : {"10.200.0.0/16", "fd77::/48", "10.201.0.0/26"}) {
            exports::Renumbering answer =
                exports::renumber(text, "fuzz", {}, site.name, *net::parse_prefix(to));
            if (answer.text && !plan::read(*answer.text, "fuzz").plan)
                __builtin_trap();
        }
    return 0;
}

#include "jackal/export/capture.h"

#include <array>
#include <cmath>

namespace jackal::exports {

namespace {

// What a record tells, in its order: an information element (IANA, "IPFIX Information Elements")
// and how many bytes it has.
struct Element {
    std::uint16_t number;
    std::uint16_t bytes;
};

constexpr std::array common{
    Element{4, 1},   // protocolIdentifier
    Element{7, 2},   // sourceTransportPort
    Element{11, 2},  // destinationTransportPort
    Element{227, 2}, // postNAPTSourceTransportPort
    Element{228, 2}, // postNAPTDestinationTransportPort
    Element{10, 4},  // ingressInterface
    Element{14, 4},  // egressInterface
    Element{89, 1},  // forwardingStatus
    Element{2, 8},   // packetDeltaCount
    Element{1, 8},   // octetDeltaCount
    Element{152, 8}, // flowStartMilliseconds
    Element{153, 8}, // flowEndMilliseconds
};
constexpr std::array of_ipv4{
    Element{8, 4},   // sourceIPv4Address
    Element{12, 4},  // destinationIPv4Address
    Element{225, 4}, // postNATSourceIPv4Address
    Element{226, 4}, // postNATDestinationIPv4Address
};
constexpr std::array of_ipv6{
    Element{27, 16},  // sourceIPv6Address
    Element{28, 16},  // destinationIPv6Address
    Element{281, 16}, // postNATSourceIPv6Address
    Element{282, 16}, // postNATDestinationIPv6Address
};
constexpr Element interface_number{10, 4};
constexpr Element interface_name{82, 32}; // interfaceName

constexpr std::uint16_t template_set = 2;
constexpr std::uint16_t options_template_set = 3;
constexpr std::uint16_t ipv4_template = 256;
constexpr std::uint16_t ipv6_template = 257;
constexpr std::uint16_t names_template = 258;

void put_number(std::string& text, std::uint64_t value, unsigned bytes) {
    for (unsigned i = bytes; i-- > 0;)
        text += static_cast<char>(value >> 8 * i & 0xff);
}

void put_elements(std::string& text, const auto& list) {
    for (const Element& element : list) {
        put_number(text, element.number, 2);
        put_number(text, element.bytes, 2);
    }
}

std::string a_set(std::uint16_t id, const std::string& content) {
    std::string text;
    put_number(text, id, 2);
    put_number(text, content.size() + 4, 2);
    return text + content;
}

std::string flow_templates() {
    std::string flows;
    for (const auto& [id, addresses] :
         {std::pair(ipv4_template, of_ipv4), std::pair(ipv6_template, of_ipv6)}) {
        put_number(flows, id, 2);
        put_number(flows, addresses.size() + common.size(), 2);
        put_elements(flows, addresses);
        put_elements(flows, common);
    }
    std::string names;
    put_number(names, names_template, 2);
    put_number(names, 2, 2);
    put_number(names, 1, 2); // of which one says what is meant
    put_elements(names, std::array{interface_number, interface_name});
    return a_set(template_set, flows) + a_set(options_template_set, names);
}

void put_address(std::string& text, net::Address a) {
    if (a.family() == net::Family::ipv6)
        put_number(text, a.high(), 8);
    put_number(text, a.low(), a.family() == net::Family::ipv6 ? 8 : 4);
}

std::uint64_t whole_milliseconds(probe::Microseconds time) {
    return static_cast<std::uint64_t>(std::llround(time.count() / 1000));
}

unsigned protocol_number(const net::Flow& flow) {
    switch (flow.protocol) {
    case net::Protocol::tcp: return 6;
    case net::Protocol::udp: return 17;
    case net::Protocol::ospf: return 89;
    default: return flow.source.family() == net::Family::ipv4 ? 1 : 58;
    }
}

std::uint32_t interface_of(lab::NicId nic) {
    return nic ? nic.row + 1 : 0;
}

std::string flow_record(const probe::SeenFlow& flow) {
    constexpr unsigned forwarded = 64; // RFC 7270 section 4.12
    constexpr unsigned dropped = 128;
    constexpr unsigned consumed = 192;
    std::string text;
    for (net::Address a :
         {flow.came.source, flow.came.destination, flow.left.source, flow.left.destination})
        put_address(text, a);
    put_number(text, protocol_number(flow.came), 1);
    for (std::uint16_t port : {flow.came.source_port, flow.came.destination_port,
                               flow.left.source_port, flow.left.destination_port})
        put_number(text, port, 2);
    put_number(text, interface_of(flow.in), 4);
    put_number(text, interface_of(flow.out), 4);
    put_number(text, flow.is_dropped ? dropped : flow.out ? forwarded : consumed, 1);
    put_number(text, flow.packets, 8);
    put_number(text, flow.bytes, 8);
    put_number(text, whole_milliseconds(flow.first), 8);
    put_number(text, whole_milliseconds(flow.last), 8);
    return text;
}

class Messages {
  public:
    explicit Messages(std::size_t most_bytes) : most_bytes_(most_bytes) {}

    void add(std::uint16_t id, const std::string& record) {
        constexpr std::size_t headers = 20;
        if (id != id_ || headers + content_.size() + record.size() + sets_.size() > most_bytes_)
            close_set();
        if (headers + sets_.size() + record.size() > most_bytes_)
            send();
        id_ = id;
        content_ += record;
        ++records_;
    }
    void add_set(const std::string& whole) {
        close_set();
        sets_ += whole;
    }
    std::vector<std::string> take() {
        close_set();
        send();
        return std::move(messages_);
    }
    void set_time(std::uint64_t seconds) { seconds_ = seconds; }

  private:
    void close_set() {
        if (!content_.empty())
            sets_ += a_set(id_, content_);
        content_.clear();
    }
    // RFC 7011 section 3.1; the sequence number counts the records sent before.
    void send() {
        if (sets_.empty())
            return;
        std::string text;
        put_number(text, 10, 2);
        put_number(text, sets_.size() + 16, 2);
        put_number(text, seconds_, 4);
        put_number(text, sent_, 4);
        put_number(text, 1, 4); // the one observation domain
        messages_.push_back(text + sets_);
        sent_ = records_;
        sets_.clear();
    }

    std::size_t most_bytes_;
    std::uint64_t seconds_ = 0;
    std::uint16_t id_ = 0;
    std::string content_; // of the set that is open
    std::string sets_;
    std::uint64_t records_ = 0;
    std::uint64_t sent_ = 0;
    std::vector<std::string> messages_;
};

} // namespace

std::vector<std::string> ipfix_messages(const lab::Lab& lab, lab::MachineId machine,
                                        const std::vector<probe::SeenFlow>& flows,
                                        std::size_t most_bytes) {
    Messages messages(most_bytes);
    for (const probe::SeenFlow& flow : flows)
        messages.set_time(whole_milliseconds(flow.last) / 1000);
    messages.add_set(flow_templates());
    for (lab::NicId nic : lab.nics_of(machine)) {
        std::string name;
        put_number(name, interface_of(nic), 4);
        name += lab.nics[nic].name;
        name.resize(interface_number.bytes + interface_name.bytes, '\0');
        messages.add(names_template, name);
    }
    for (const probe::SeenFlow& flow : flows)
        messages.add(flow.came.source.family() == net::Family::ipv4 ? ipv4_template : ipv6_template,
                     flow_record(flow));
    return messages.take();
}

} // namespace jackal::exports

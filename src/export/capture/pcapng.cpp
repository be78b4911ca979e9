#include "jackal/export/capture.h"

#include <cmath>
#include <map>
#include <stdexcept>

namespace jackal::exports {

namespace {

// Blocks of the file, all numbers with their lowest byte first:
//
//     section header   0a0d0d0a | length | 1a2b3c4d | 1 | 0 | -1 (section length) | length
//     interface        1        | length | link type | 0 | snap length | options   | length
//     packet           6        | length | interface | time (2 words)
//                      | bytes kept | bytes sent | bytes, padded | options          | length
//
// An option is its code, its length, and its bytes, padded to four; code 0 ends them.
class Blocks {
  public:
    void section() {
        begin(0x0a0d0d0a);
        word(0x1a2b3c4d);
        half(1); // version 1.0
        half(0);
        word(~0U);
        word(~0U);
        option(4, "jackal"); // shb_userappl
        option(0, "");
        end();
    }

    void interface(const std::string& name) {
        constexpr std::uint16_t ethernet = 1;
        begin(1);
        half(ethernet);
        half(0);
        word(0);         // no limit
        option(2, name); // if_name
        option(0, "");
        end();
    }

    void packet(std::uint32_t interface, std::uint64_t microseconds, bool leaves,
                const std::vector<std::uint8_t>& bytes) {
        begin(6);
        word(interface);
        word(static_cast<std::uint32_t>(microseconds >> 32));
        word(static_cast<std::uint32_t>(microseconds));
        const auto size = static_cast<std::uint32_t>(bytes.size());
        word(size);
        word(size);
        text_.append(bytes.begin(), bytes.end());
        pad();
        const std::string way{leaves ? '\2' : '\1', '\0', '\0', '\0'};
        option(2, way); // epb_flags
        option(0, "");
        end();
    }

    std::size_t size() const { return text_.size(); }
    std::string take() { return std::move(text_); }

  private:
    void half(std::uint16_t value) {
        text_ += static_cast<char>(value & 0xff);
        text_ += static_cast<char>(value >> 8);
    }
    void word(std::uint32_t value) {
        half(static_cast<std::uint16_t>(value & 0xffff));
        half(static_cast<std::uint16_t>(value >> 16));
    }
    void pad() {
        while (text_.size() % 4 != 0)
            text_ += '\0';
    }
    void option(std::uint16_t code, const std::string& value) {
        half(code);
        half(static_cast<std::uint16_t>(value.size()));
        text_ += value;
        pad();
    }
    // The length stands before and behind each block.
    void begin(std::uint32_t type) {
        start_ = text_.size();
        word(type);
        word(0);
    }
    void end() {
        const auto length = static_cast<std::uint32_t>(text_.size() - start_ + 4);
        word(length);
        for (std::size_t i = 0; i < 4; ++i)
            text_[start_ + 4 + i] = static_cast<char>(length >> 8 * i & 0xff);
    }

    std::string text_;
    std::size_t start_ = 0;
};

} // namespace

std::string capture_file(const lab::Lab& lab, const std::vector<probe::Sighting>& sightings) {
    std::map<probe::Spot, std::uint32_t> interfaces;
    for (const probe::Sighting& sighting : sightings)
        interfaces.emplace(probe::Spot{sighting.nic, sighting.port}, 0);
    Blocks blocks;
    blocks.section();
    std::uint32_t number = 0;
    for (auto& [spot, interface] : interfaces) {
        interface = number++;
        blocks.interface(probe::name_of(lab, spot));
    }
    constexpr std::size_t most_bytes = std::size_t{256} << 20U;
    for (const probe::Sighting& sighting : sightings) {
        if (blocks.size() > most_bytes)
            throw std::length_error("the capture is larger than 256 MiB");
        blocks.packet(interfaces.at({sighting.nic, sighting.port}),
                      static_cast<std::uint64_t>(std::llround(sighting.at.count())),
                      sighting.leaves, bytes_of(lab, sighting.frame));
    }
    return blocks.take();
}

} // namespace jackal::exports

#include "jackal/plan/mark.h"

#include "plan/characters.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <fmt/format.h>

namespace jackal::plan {

std::pair<std::size_t, char32_t> front_character(std::string_view text) {
    auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
    if (byte(0) < 0x80)
        return {1, byte(0)};
    std::size_t size = byte(0) >= 0xf0 ? 4 : byte(0) >= 0xe0 ? 3 : 2;
    if (byte(0) < 0xc2 || byte(0) > 0xf4 || text.size() < size)
        return {0, 0};
    char32_t number = byte(0) & (0xffU >> (size + 1));
    for (std::size_t i = 1; i < size; ++i) {
        if ((byte(i) & 0xc0U) != 0x80)
            return {0, 0};
        number = number << 6 | (byte(i) & 0x3fU);
    }
    constexpr char32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
    bool surrogate = number >= 0xd800 && number <= 0xdfff;
    return number < least[size] || surrogate || number > 0x10ffff ? std::pair(std::size_t{0}, U'\0')
                                                                  : std::pair(size, number);
}

bool is_printable(char32_t c) {
    bool control = c < 0x20 || (c >= 0x7f && c < 0xa0);
    bool breaks_line = c == 0x2028 || c == 0x2029;
    bool turns =
        c == 0x200e || c == 0x200f || (c >= 0x202a && c <= 0x202e) || (c >= 0x2066 && c <= 0x2069);
    bool is_no_character = (c & 0xfffeU) == 0xfffe || (c >= 0xfdd0 && c <= 0xfdef) || c == 0xfeff;
    return !control && !breaks_line && !turns && !is_no_character;
}

std::string printable(std::string_view text) {
    std::string result;
    for (std::size_t at = 0; at < text.size();) {
        auto [size, number] = front_character(text.substr(at));
        std::string_view bytes = text.substr(at, std::max<std::size_t>(size, 1));
        if (size != 0 && is_printable(number))
            result += bytes;
        else
            for (char c : bytes)
                result += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
        at += bytes.size();
    }
    return result;
}

std::string shell_word(std::string_view text) {
    constexpr std::string_view plain =
        "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./:=@%+,-";
    if (!text.empty() && text.find_first_not_of(plain) == text.npos)
        return std::string(text);
    std::string word = "'";
    for (char c : text)
        if (c == '\'')
            word += "'\\''";
        else
            word += c;
    return word + "'";
}

std::string to_string(Mark at, std::string_view file) {
    return at ? fmt::format("{}:{}:{}", printable(file), at.line, at.column) : printable(file);
}

namespace {

// Optimal string alignment distance (insert, delete, replace, swap neighbours) from one word of at
// most 64 letters to others, all letters of the word at once in the bits of a number: Hyyrö, "A
// bit-vector algorithm for computing Levenshtein and Damerau edit distances", 2003.
class Lettered {
  public:
    explicit Lettered(std::string_view word) : size_(word.size()) {
        for (std::size_t i = 0; i < size_; ++i)
            places_[static_cast<unsigned char>(word[i])] |= std::uint64_t{1} << i;
    }

    std::size_t distance(std::string_view other) const {
        std::uint64_t more = ~std::uint64_t{0}; // where the distance is one more than above
        std::uint64_t less = 0;
        std::uint64_t same = 0;
        std::uint64_t before = 0;
        std::size_t steps = size_;
        for (char letter : other) {
            std::uint64_t matches = places_[static_cast<unsigned char>(letter)];
            std::uint64_t swapped = ((~same & matches) << 1) & before;
            same = (((matches & more) + more) ^ more) | matches | less | swapped;
            std::uint64_t up = less | ~(same | more);
            std::uint64_t down = same & more;
            steps += up >> (size_ - 1) & 1;
            steps -= down >> (size_ - 1) & 1;
            up = up << 1 | 1;
            more = down << 1 | ~(same | up);
            less = up & same;
            before = matches;
        }
        return steps;
    }

  private:
    std::size_t size_;
    std::array<std::uint64_t, 256> places_{}; // of each letter in the word
};

} // namespace

std::string_view nearest_word(std::string_view word, const std::vector<std::string_view>& known) {
    constexpr std::size_t longest = 64;
    if (word.empty() || word.size() > longest)
        return {};
    const Lettered letters(word);
    std::string_view best;
    std::size_t best_distance = std::max<std::size_t>(1, word.size() / 3) + 1;
    for (std::string_view candidate : known) {
        std::size_t gap =
            std::max(word.size(), candidate.size()) - std::min(word.size(), candidate.size());
        if (gap >= best_distance)
            continue;
        if (std::size_t d = letters.distance(candidate); d < best_distance) {
            best = candidate;
            best_distance = d;
        }
    }
    return best;
}

std::string did_you_mean(std::string_view near) {
    return near.empty() ? "" : "; did you mean " + std::string(near) + "?";
}

} // namespace jackal::plan

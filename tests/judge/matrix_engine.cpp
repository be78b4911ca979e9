#include "engine.h"

#include <map>

namespace judge {

using namespace jackal;

namespace {

// One family's matrices of a lab, by what is asked for.
class Matrices {
  public:
    explicit Matrices(const routing::Settled& settled) : settled_(settled) {}

    Answer answer(const Question& question) {
        const lab::Lab& lab = settled_.lab();
        net::Family family = question.destination.family();
        std::optional<net::Address> source =
            question.source ? question.source
                            : packet::source_address(settled_, question.from, question.destination);
        const reach::Matrix& matrix = this->matrix(family, question.service);
        auto from = source ? position(matrix, *source) : std::nullopt;
        auto to = position(matrix, question.destination);
        bool can_ask = from && to && question.ttl == 64
                       && (question.service || question.payload_bytes == 56)
                       && machine(lab, matrix.ends()[*from]) == question.from
                       && lab.owners_of(question.destination).size() == 1;
        if (!can_ask)
            return {.kind = Answer::Kind::not_asked};
        return {.kind =
                    matrix.reaches(*from, *to) ? Answer::Kind::answered : Answer::Kind::no_reply};
    }

  private:
    static lab::MachineId machine(const lab::Lab& lab, lab::AddressId id) {
        return lab.nics[lab.addresses[id].nic].machine;
    }

    std::optional<std::size_t> position(const reach::Matrix& matrix, net::Address address) const {
        for (std::size_t i = 0; i < matrix.ends().size(); ++i)
            if (settled_.lab().addresses[matrix.ends()[i]].address == address)
                return i;
        return std::nullopt;
    }

    const reach::Matrix& matrix(net::Family family, const std::optional<net::Service>& service) {
        auto [found, is_new] = matrices_.try_emplace(std::pair(family, service));
        if (is_new)
            found->second =
                reach::matrix(settled_, reach::ends(settled_.lab(), family), {.service = service});
        return found->second;
    }

    const routing::Settled& settled_;
    std::map<std::pair<net::Family, std::optional<net::Service>>, reach::Matrix> matrices_;
};

} // namespace

Answers ask_matrix(const routing::Settled& settled, const std::vector<Question>& questions) {
    Matrices matrices(settled);
    Answers answers;
    for (const Question& question : questions)
        answers.push_back(matrices.answer(question));
    return answers;
}

} // namespace judge

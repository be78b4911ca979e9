#include "jackal/mend/search.h"

#include "mend/candidates.h"
#include "mend/searching.h"
#include "reach/parallel.h"

#include <algorithm>
#include <map>
#include <mutex>

namespace jackal::mend {

std::size_t Outcome::count() const {
    std::size_t sum = 0;
    for (const Change& change : changes)
        sum += change.count;
    return sum;
}

std::vector<plan::Edit> Outcome::edits() const {
    std::vector<plan::Edit> all;
    for (const Change& change : changes)
        all.insert(all.end(), change.edits.begin(), change.edits.end());
    return all;
}

namespace {

// A set of changes, made.
struct Node {
    std::vector<Change> changes;
    std::set<std::string> keys; // of the changes, each as the plan stood before it
    std::size_t count = 0;      // as a builder counts
    std::size_t decisions = 0;  // of the plan that they go against
    int disturbance = 0;
    std::shared_ptr<const State> state;

    // Better first: fewer expectations unmet, more answers, fewer places that fail, packets that
    // get further, less disturbance. Something mended may show what it hid, so what is answered
    // goes before what fails.
    auto rank() const {
        return std::tuple(state->as_before().unmet.size(),
                          -static_cast<std::ptrdiff_t>(state->answered()), state->places(),
                          -static_cast<std::ptrdiff_t>(state->progress()), disturbance);
    }
    bool does_harm(bool strict) const {
        return std::ranges::any_of(
            state->harm(), [&](const Failing& failing) { return strict || !failing.is_warning; });
    }
    // Of sets that do: fewer changes, where one against a decision counts twice; then, of what is
    // to get replies, fewer answers that nobody asked for; fewer findings of any sort, and less
    // disturbance.
    auto cost(bool spares_reach) const {
        return std::tuple(count + decisions, count, spares_reach ? state->answered() : 0,
                          state->findings(), disturbance);
    }
};

class Search {
    auto cost_of(const Node& node) const {
        return node.cost(goals_.expectations && !before_.unmet.empty());
    }

  public:
    Search(const plan::Plan& plan, const Goals& goals, const Limits& limits,
           const std::function<bool()>& goes_on)
        : plan_(plan), goals_(goals), limits_(limits), ask_(goes_on), most_(limits.changes) {}

    Found run(const routing::Settled& settled, std::shared_ptr<const State> state) {
        before_ = state->as_before();
        before_.settled = &settled;
        root_ = state;
        Node root;
        root.state = std::move(state);
        if (is_healthy(root)) {
            outcome_.proof = Outcome::Proof::nothing_to_do;
            return {std::move(outcome_), root.state};
        }
        furthest_ = root;
        // Warnings may be meant: they are not worth a move of anything.
        const bool is_broken = std::ranges::any_of(
            root.state->failing(), [](const Failing& failing) { return !failing.is_warning; });
        furthest_reach_ = is_broken ? Reach::alternatives : Reach::switches;
        try_all(root);
        look_near(root);
        if (all_at_once_ && (!best_ || cost_of(*all_at_once_) < cost_of(*best_)))
            best_ = std::move(all_at_once_);
        if (best_ && limits_.is_quick)
            improve_a_little(root);
        else if (best_)
            improve(root);
        const bool is_smallest = best_ && !limits_.is_quick && prove(root);
        if (best_)
            refine();
        finish(is_smallest);
        return {std::move(outcome_), best_ ? best_->state : furthest_.state};
    }

  private:
    struct Pass {
        Reach reach;
        std::size_t width;
    };
    static constexpr Pass passes[] = {{Reach::remedies, 1},
                                      {Reach::switches, 2},
                                      {Reach::alternatives, 1},
                                      {Reach::alternatives, 4}};

    // Many mistakes have mostly nothing to do with each other: what is proposed for each, all at
    // once.
    void try_all(const Node& root) {
        constexpr std::size_t many = 4;
        constexpr std::size_t most = 200;
        if (!goals_.questions.empty() || root.state->failing().size() < many || !goes_on())
            return;
        Node all;
        plan::Plan plan = plan_;
        for (const Failing& failing : root.state->failing()) {
            if (failing.is_asked || all.changes.size() == most)
                continue;
            if (failing.remedy.edits.empty())
                continue;
            Candidate one = candidate(failing, failing.remedy.edits);
            std::string key = key_of(one.change.edits);
            if (all.keys.contains(key))
                continue;
            plan::Applied made = plan::apply(std::move(plan), one.change.edits);
            if (!made.plan)
                return; // it is about something that another took away
            plan = *std::move(made.plan);
            all.keys.insert(std::move(key));
            all.count += one.change.count;
            all.decisions += one.change.against.empty() ? 0 : 1;
            all.disturbance += one.disturbance;
            all.changes.push_back(std::move(one.change));
        }
        if (all.changes.size() < many)
            return;
        proposed_.insert(all.keys.begin(), all.keys.end());
        all.state = State::of(plan, goals_, &before_);
        ++outcome_.tried;
        if (all.state != nullptr && is_healthy(all))
            all_at_once_ = std::move(all);
    }

    // What lies near is better, even if it shows a warning that was hidden.
    void look_near(const Node& root) {
        for (const Pass& pass : passes)
            for (bool strict : {true, false})
                look_once(root, pass, strict);
    }

    void look_once(const Node& root, const Pass& pass, bool strict) {
        if (best_ || !goes_on())
            return;
        strict_ = strict;
        look(root, pass.reach, pass.width);
    }

    bool is_healthy(const Node& node) {
        return node.state->failing().empty() && !node.does_harm(strict_) && !takes_replies(node);
    }

    plan::Plan plan_of(const Node& node) const {
        plan::Plan plan = plan_;
        for (const Change& change : node.changes)
            plan = plan::apply(std::move(plan), change.edits).plan.value();
        return plan;
    }

    // True if some ping between machines of the plan got its reply before and gets none now. Where
    // expectations are to be met that may be what they want; they tell what else must not be.
    bool takes_replies(const Node& node) {
        if (goals_.expectations || node.changes.empty()
            || plan_.machines.size() > most_machines_beside)
            return false;
        auto [known, is_new] = takes_replies_.try_emplace(node.state);
        if (is_new) {
            const lab::Lab lab = lab::build(plan_of(node));
            const routing::Settled settled = routing::settle(lab);
            known->second = std::ranges::any_of(plan_.machines, [&](const plan::Machine& from) {
                return std::ranges::any_of(plan_.machines, [&](const plan::Machine& to) {
                    return &from != &to && is_taken(settled, from.name, to.name);
                });
            });
        }
        return known->second;
    }
    bool is_taken(const routing::Settled& settled, const std::string& from,
                  const std::string& to) const {
        const auto now = probe::question(settled.lab(), from, to);
        return now && !probe::exchange(settled, *now).replied() && !before_.failed(from, to);
    }

    bool goes_on() {
        std::scoped_lock lock(mutex_);
        return !is_stopped();
    }
    bool is_stopped() {
        stopped_ = stopped_ || (ask_ && !ask_());
        return stopped_;
    }

    static std::string key_of_set(const std::set<std::string>& keys) {
        std::string key;
        for (const std::string& one : keys)
            key += one;
        return key;
    }

    // All sets of one change more. What was made before is not made again.
    std::vector<Node> expand(const Node& node, Reach reach) {
        std::vector<Node> next;
        const plan::Plan plan = plan_of(node);
        const lab::Lab lab = lab::build(plan);
        for (Candidate& candidate : candidates(plan, lab, *node.state, reach)) {
            Node child;
            child.keys = node.keys;
            const std::string key = key_of(candidate.change.edits);
            proposed_.insert(key);
            if (!child.keys.insert(key).second)
                continue;
            child.count = node.count + candidate.change.count;
            if (child.count > most_)
                continue;
            child.decisions = node.decisions + (candidate.change.against.empty() ? 0 : 1);
            child.disturbance = node.disturbance + candidate.disturbance;
            child.changes = node.changes;
            child.changes.push_back(std::move(candidate.change));
            next.push_back(std::move(child));
        }
        make(plan, next);
        return next;
    }

    // Builds the labs of those that are not known.
    void make(const plan::Plan& plan, std::vector<Node>& children) {
        reach::in_parallel(children.size(), 1, limits_.threads,
                           [&](unsigned, std::size_t first, std::size_t last) {
                               for (std::size_t i = first; i < last; ++i)
                                   make_one(plan, children[i]);
                           });
        std::erase_if(children, [](const Node& child) { return child.state == nullptr; });
    }

    void make_one(const plan::Plan& plan, Node& child) {
        const std::string key = key_of_set(child.keys);
        {
            std::scoped_lock lock(mutex_);
            auto known = known_.find(key);
            if (known != known_.end()) {
                child.state = known->second;
                return;
            }
            if (is_stopped())
                return;
        }
        std::shared_ptr<const State> state;
        // Another change may have taken away what it is about.
        if (plan::Applied made = plan::apply(plan, child.changes.back().edits); made.plan)
            state = State::of(*made.plan, goals_, &before_);
        std::scoped_lock lock(mutex_);
        ++outcome_.tried;
        known_.emplace(key, state);
        child.state = std::move(state);
    }

    void take_if_better(const Node& node) {
        const bool is_answer = is_healthy(node);
        const bool is_step = node.state->harm().empty() && !node.state->failing().empty();
        if (node.rank() < furthest_.rank() && (is_answer || is_step))
            furthest_ = node;
        if (is_answer && (!best_ || cost_of(node) < cost_of(*best_)))
            best_ = node;
    }

    // Looks for sets of fewer changes, and then for others of as many.
    void improve(const Node& root) {
        for (bool found = true; found && best_->count > 1;) {
            found = false;
            found = is_beaten(root, Reach::alternatives, 4, best_->count - 1);
        }
        is_beaten(root, Reach::alternatives, 6, best_->count);
        most_ = best_->count;
    }

    // Where many changes were found one may stand for several.
    void improve_a_little(const Node& root) {
        constexpr std::size_t many = 3;
        if (best_->count >= many)
            is_beaten(root, Reach::alternatives, 1, best_->count - 1);
        most_ = best_->count;
    }

    // Looks once more, for no more than `most` changes. True if something better was found.
    bool is_beaten(const Node& root, Reach reach, int width, std::size_t most) {
        if (!goes_on())
            return false;
        Node known = std::move(*best_);
        best_.reset();
        most_ = most;
        look(root, reach, static_cast<std::size_t>(width));
        if (best_ && cost_of(*best_) < cost_of(known))
            return true;
        best_ = std::move(known);
        return false;
    }

    // From the best few sets of each size on to those of one change more.
    void look(const Node& root, Reach reach, std::size_t width) {
        reach = std::min(reach, furthest_reach_);
        std::vector<Node> level{root};
        for (std::size_t depth = 0; depth < most_ && !level.empty() && goes_on(); ++depth) {
            std::vector<Node> next;
            std::set<std::string> taken;
            for (const Node& node : level) {
                if (!goes_on())
                    break;
                for (Node& child : expand(node, reach))
                    if (taken.insert(key_of_set(child.keys)).second)
                        next.push_back(std::move(child));
            }
            for (const Node& node : next)
                take_if_better(node);
            if (best_)
                return reduce();
            std::ranges::stable_sort(next, {}, &Node::rank);
            if (next.size() > width)
                next.resize(width);
            level = std::move(next);
        }
    }

    // The best set without one of its changes, made anew; nothing if others need that one.
    std::optional<Node> best_without(std::size_t left_out) {
        Node fewer;
        plan::Plan plan = plan_;
        for (std::size_t i = 0; i < best_->changes.size(); ++i) {
            if (i == left_out)
                continue;
            const Change& change = best_->changes[i];
            fewer.keys.insert(key_of(change.edits));
            for (const plan::Edit& edit : change.edits)
                fewer.disturbance += disturbance(edit.move);
            plan::Applied made = plan::apply(std::move(plan), change.edits);
            if (!made.plan)
                return std::nullopt;
            plan = *std::move(made.plan);
            fewer.count += change.count;
            fewer.decisions += change.against.empty() ? 0 : 1;
            fewer.changes.push_back(change);
        }
        fewer.state = State::of(plan, goals_, &before_);
        ++outcome_.tried;
        return fewer.state == nullptr ? std::nullopt : std::optional(std::move(fewer));
    }

    // Leaves out of the best set what it does without.
    void reduce() {
        for (std::size_t i = 0; i < best_->changes.size() && best_->changes.size() > 1;) {
            std::optional<Node> fewer = best_without(i);
            if (fewer && is_healthy(*fewer))
                best_ = std::move(fewer);
            else
                ++i;
        }
    }

    // Looks for something that disturbs less in the place of each change that disturbs much.
    void refine() {
        constexpr int much = 10;
        for (std::size_t i = 0; i < best_->changes.size() && goes_on(); ++i) {
            std::optional<Node> without = best_without(i);
            if (!without || best_->disturbance - without->disturbance < much)
                continue;
            for (const Node& child :
                 expand(*without, std::min(Reach::alternatives, furthest_reach_)))
                take_if_better(child);
        }
    }

    // Looks at every set with fewer changes than the best one. False if time was up before.
    bool prove(const Node& root) {
        std::vector<Node> level{root};
        for (std::size_t depth = 1; depth < best_->count; ++depth) {
            std::vector<Node> next;
            std::set<std::string> taken;
            for (const Node& node : level) {
                if (!goes_on())
                    return false;
                for (Node& child : expand(node, std::min(Reach::alternatives, furthest_reach_))) {
                    take_if_better(child);
                    if (child.count < best_->count && taken.insert(key_of_set(child.keys)).second)
                        next.push_back(std::move(child));
                }
            }
            if (!goes_on())
                return false;
            level = std::move(next);
        }
        return true;
    }

    // Puts those first that are somebody's remedy as the plan stands, what a builder would do
    // first, and says of each what of the plan as it is it mends. The changes stay as they are if
    // that came to something else.
    void put_in_order(Node& node) {
        if (node.changes.empty() || (node.changes.size() > 1 && !goes_on()))
            return;
        std::vector<Change> changes = node.changes;
        const bool can_move = std::ranges::none_of(changes, [](const Change& change) {
            return std::ranges::any_of(change.edits, depends_on_order);
        });
        std::vector<std::shared_ptr<const State>> states{root_};
        std::vector<const Failing*> proposers; // of each change, as the plan stood then
        plan::Plan plan = plan_;
        for (auto next = changes.begin(); next != changes.end(); ++next) {
            if (states.back() != nullptr && can_move)
                choose(*states.back(), next, changes.end());
            proposers.push_back(proposer_of(*next, states.back()));
            plan::Applied made = plan::apply(std::move(plan), next->edits);
            if (!made.plan)
                return; // another has to come before it
            plan = *std::move(made.plan);
            states.push_back(next + 1 == changes.end() && changes.size() == 1
                                 ? node.state
                                 : State::of(plan, goals_, &before_));
        }
        const auto& last = states.back();
        if (last == nullptr || last->failing().size() != node.state->failing().size()
            || last->harm().size() != node.state->harm().size())
            return;
        for (std::size_t i = 0; i < changes.size(); ++i)
            give_reason(changes[i], proposers[i], states, i + 1);
        node.changes = std::move(changes);
    }

    // What fails from the start and has the change for its remedy now; or null.
    const Failing* proposer_of(const Change& change,
                               const std::shared_ptr<const State>& state) const {
        const std::string own = key_of(change.edits);
        for (const State* one : {root_.get(), state.get()})
            for (std::size_t i = 0; one != nullptr && i < one->failing().size(); ++i) {
                const Failing& failing = one->failing()[i];
                const bool was_there =
                    one == root_.get()
                    || std::ranges::any_of(root_->failing(), [&](const Failing& other) {
                           return other.key == failing.key && other.is_asked && failing.is_asked;
                       });
                if (was_there && !failing.remedy.edits.empty() && !own.empty()
                    && key_of(failing.remedy.edits) == own)
                    return &failing;
            }
        return nullptr;
    }

    // That; else the first that fails from the start and no more with the change, or with one after
    // it, which it takes part in.
    void give_reason(Change& change, const Failing* proposer,
                     const std::vector<std::shared_ptr<const State>>& states,
                     std::size_t number) const {
        auto give = [&](const Failing& failing) {
            change.cause = failing.cause;
            change.reason = failing.message;
            change.at = failing.at;
        };
        if (proposer != nullptr)
            return give(*proposer);
        auto known_by = [](const State* state, const Failing& failing) -> const Failing* {
            if (state == nullptr)
                return nullptr;
            const auto& all = state->failing();
            auto same = std::ranges::find_if(all, [&](const Failing& other) {
                return other.key == failing.key && other.at == failing.at;
            });
            return same == all.end() ? nullptr : &*same;
        };
        for (std::size_t i = number; i < states.size(); ++i)
            for (const Failing& failing : root_->failing()) {
                const Failing* before = known_by(states[i - 1].get(), failing);
                if (before != nullptr && states[i] != nullptr
                    && known_by(states[i].get(), failing) == nullptr)
                    // What is in the way of a question is something else after each change.
                    return give(i == number && failing.is_asked ? *before : failing);
            }
    }

    // Puts the change that is a remedy in that state, if there is one, in front of the others.
    static void choose(const State& state, std::vector<Change>::iterator first,
                       std::vector<Change>::iterator last) {
        for (const Failing& failing : state.failing()) {
            const std::string wanted = key_of(failing.remedy.edits);
            for (auto i = first; i != last && !wanted.empty(); ++i) {
                if (key_of(i->edits) != wanted)
                    continue;
                std::rotate(first, i, i + 1);
                return;
            }
        }
    }

    // What is told by its position, or moves the positions of others.
    static bool depends_on_order(const plan::Edit& edit) {
        switch (edit.move) {
        case plan::Move::remove_route:
        case plan::Move::set_route_via:
        case plan::Move::add_filter_rule:
        case plan::Move::remove_filter_rule:
        case plan::Move::remove_translation:
        case plan::Move::set_translation_nic: return true;
        default: return false;
        }
    }

    void finish(bool is_smallest) {
        Node& node = best_ ? *best_ : furthest_;
        outcome_.proposed = proposed_.size();
        put_in_order(node);
        outcome_.proof = !best_        ? Outcome::Proof::none
                         : is_smallest ? Outcome::Proof::smallest
                                       : Outcome::Proof::best_found;
        for (const Failing& failing : node.state->failing())
            outcome_.left.push_back({failing.cause, failing.message, failing.remedy.advice,
                                     failing.at, failing.is_warning});
        for (const Failing& failing : node.state->harm())
            outcome_.brought.push_back({failing.cause, failing.message, failing.remedy.advice,
                                        failing.at, failing.is_warning});
        outcome_.changes = std::move(node.changes);
    }

    const plan::Plan& plan_;
    const Goals& goals_;
    const Limits& limits_;
    const std::function<bool()>& ask_;
    std::size_t most_; // changes in one set
    Reach furthest_reach_ = Reach::alternatives;
    bool stopped_ = false;
    bool strict_ = true; // a new warning is harm, too
    Before before_;
    std::shared_ptr<const State> root_; // of the plan as it is
    std::set<std::string> proposed_;    // keys of changes
    std::map<std::shared_ptr<const State>, bool> takes_replies_;
    std::optional<Node> all_at_once_; // what is proposed for each thing, if that does
    std::optional<Node> best_;
    Node furthest_; // without harm
    std::mutex mutex_;
    std::map<std::string, std::shared_ptr<const State>> known_; // by the set's keys
    Outcome outcome_;
};

} // namespace

Found search_from(const plan::Plan& plan, const routing::Settled& settled,
                  std::shared_ptr<const State> root, const Goals& goals, const Limits& limits,
                  const std::function<bool()>& goes_on) {
    return Search(plan, goals, limits, goes_on).run(settled, std::move(root));
}

Outcome search(const plan::Plan& plan, const Goals& goals, const Limits& limits,
               const std::function<bool()>& goes_on) {
    std::vector<plan::Problem> problems;
    const auto complete = plan::Complete::of(plan, problems);
    if (!complete)
        throw std::invalid_argument("the plan has problems; it cannot be mended");
    const lab::Lab lab = lab::build(*complete);
    const routing::Settled settled = routing::settle(lab);
    Outcome outcome =
        search_from(plan, settled, State::of(settled, goals, nullptr), goals, limits, goes_on)
            .outcome;
    ++outcome.tried;
    return outcome;
}

} // namespace jackal::mend

// Tables of fields: one row for each key of an entry of the plan. A row knows what there is to know
// of its key: its name, what it holds and what holds where it is not written, its shape, how it is
// read and how it is written.
//
//     constexpr Field<Route> route_fields[] = {
//         field<Number<0, 4'294'967'295>, &Route::metric>("metric", "lower wins", "0"),
//         …
//
// A codec reads and writes values of one form, and tells their shape; a field applies it to a
// member, or to a member of a member. Where that is not enough, a codec reads and writes what it
// needs of the whole entry (whole).
#pragma once

#include "plan/fields/change.h"
#include "plan/fields/shape.h"

#include <array>
#include <concepts>
#include <span>

namespace jackal::plan {

/// A member of a struct of the plan.
struct Member {
    const void* owner = nullptr;
    const void* member = nullptr;

    friend constexpr bool operator==(const Member&, const Member&) = default;
};

template <class T>
struct Field : Row {
    void (*read)(Reader&, NodeId, std::string_view key, T&) = nullptr;
    Value (*write)(const T&) = nullptr; ///< nothing where it is the usual
    void (*reset)(T&) = nullptr;        ///< to the usual
    Mark (*at)(const T&) = nullptr;     ///< where it is written, as far as that is known
    /// Makes a change of an entry below it; false where it has none. Null for keys without entries.
    bool (*change)(Change&, Steps rest, T&) = nullptr;
    std::array<Member, 3> members{}; ///< that it fills, outermost first
};

/// A sort of entry that is read into a T.
template <class T>
struct Entry {
    using Type = T;

    std::string_view name; // `nic`
    std::string_view what; // `a NIC`
    std::span<const Field<T>> fields;
    std::vector<Rule> rules = {};
    /// Before the first key is read, and once all are.
    void (*begin)(Reader&, NodeId, T&) = nullptr;
    void (*check)(Reader&, NodeId, T&) = nullptr;
    /// Keys that are names.
    struct Others {
        Shape (*shape)();
        bool (*read)(Reader&, NodeId key, NodeId value, T&); // false if it is none of them
        void (*write)(const T&, Value& into);
        std::vector<std::string_view> (*known)(const T&);
        std::string_view what; // `none of its two sites`
    };
    const Others* others = nullptr;
    bool is_one = false; ///< what one of its keys means depends on the others
    /// Of a list: whether two say so much the same that the second is not added. By default if they
    /// are equal.
    bool (*is_same)(const T&, const T&) = nullptr;
};

/// Reads the keys of a mapping.
template <class T>
void read_entry(Reader& r, NodeId node, const Entry<T>& entry, T& into) {
    if (entry.begin != nullptr)
        entry.begin(r, node, into);
    r.each_pair(node, entry.what, [&](NodeId key, NodeId value) {
        auto found = std::ranges::find(entry.fields, r.text(key), &Field<T>::key);
        if (found != entry.fields.end())
            return found->read(r, value, found->key, into);
        if (entry.others != nullptr && entry.others->read(r, key, value, into))
            return;
        std::vector<std::string_view> names;
        for (const Field<T>& field : entry.fields)
            names.push_back(field.key);
        std::ranges::sort(names);
        std::string what = fmt::format("key of {}", entry.what);
        if (entry.others != nullptr) {
            std::ranges::copy(entry.others->known(into), std::inserter(names, names.begin()));
            what += fmt::format(", and {}", entry.others->what);
        }
        r.problem(key, Reader::unknown(what, r.text(key), names));
    });
    if (entry.check != nullptr)
        r.checked([&] { entry.check(r, node, into); });
}

/// The keys of an entry whose values are not the usual ones.
template <class T>
Value written(const T& of, const Entry<T>& entry) {
    Value map = Value::map();
    for (const Field<T>& field : entry.fields)
        map.add(std::string(field.key), field.write(of));
    if (entry.others != nullptr)
        entry.others->write(of, map);
    return map;
}

/// Makes a change of what stands `rest` below an entry.
template <class T>
void change_entry(Change& change, Steps rest, const Entry<T>& entry, T& into) {
    if constexpr (requires { into.at; })
        if (into.at)
            change.at = into.at;
    auto field = std::ranges::find(entry.fields, rest.front().word, &Field<T>::key);
    const bool is_known = field != entry.fields.end();
    if (is_known && field->change != nullptr && field->change(change, rest.subspan(1), into))
        return;
    if (entry.is_one) {
        Value keys = written(into, entry);
        change.alter_all(keys, rest);
        for (const Field<T>& each : entry.fields)
            each.reset(into);
        change.read(keys, [&](Reader& r, NodeId node) { read_entry(r, node, entry, into); });
    } else if (is_known) {
        if (const Mark at = field->at(into))
            change.at = at;
        Value value = field->write(into);
        change.alter(value, rest.subspan(1));
        field->reset(into);
        if (value)
            change.read(value,
                        [&](Reader& r, NodeId node) { field->read(r, node, field->key, into); });
    } else {
        change.refuse(fmt::format("{} is no key of {}", shown(rest.front().word), entry.what));
    }
}

/// The entry as one tells of it.
template <auto entry>
const Sort& sort_of() {
    static const Sort sort = [] {
        const auto& of = entry();
        Sort result{of.name, {of.fields.begin(), of.fields.end()}, of.rules, {}};
        if (of.others != nullptr)
            result.others = of.others->shape();
        return result;
    }();
    return sort;
}

// --- members ---------------------------------------------------------------------------------

template <class>
struct MemberOf;
template <class Owner_, class Type_>
struct MemberOf<Type_ Owner_::*> {
    using Owner = Owner_;
    using Type = Type_;
};

/// Their addresses stand for a member, and for a struct.
template <auto member>
inline constexpr char member_tag = 0;
template <class T>
inline constexpr char struct_tag = 0;

template <auto member>
inline constexpr Member tag{&struct_tag<typename MemberOf<decltype(member)>::Owner>,
                            &member_tag<member>};

/// Becomes any member of a T.
template <class T>
struct AnyMember {
    template <class M>
    requires(!std::same_as<std::remove_cvref_t<M>, T>) operator M() const noexcept;
};
template <class T, std::size_t... i>
consteval bool has_members(std::index_sequence<i...>) {
    return requires {
        T{((void)i, AnyMember<T>{})...};
    };
}
/// How many members a struct has.
template <class T, std::size_t most = 32>
consteval std::size_t member_count() {
    if constexpr (has_members<T>(std::make_index_sequence<most>{}))
        return most;
    else
        return member_count<T, most - 1>();
}

/// Whether each member of a T is filled by one of the fields, or is one of the others: those that
/// no key is for.
template <class T, class Of, std::size_t n>
consteval bool covers(const Field<Of> (&fields)[n], std::initializer_list<Member> others = {}) {
    std::array<Member, 64> found{};
    std::size_t count = 0;
    auto add = [&](const Member& member) {
        bool is_known = member.owner != &struct_tag<T>;
        for (std::size_t i = 0; i < count; ++i)
            is_known = is_known || found[i] == member;
        if (!is_known)
            found[count++] = member;
    };
    for (const Field<Of>& field : fields)
        for (const Member& member : field.members)
            add(member);
    for (const Member& member : others)
        add(member);
    return count == member_count<T>();
}

template <class M>
concept Holder = requires(M m) {
    m.reset();
    *m;
};
template <class M>
concept IsPlaced = requires(M m) {
    m.value;
    m.at;
}
&&std::same_as<M, Placed<decltype(M::value)>>;

template <Holder M>
using Held = std::remove_cvref_t<decltype(*std::declval<M&>())>;

/// A T of which nothing is written.
template <class T>
const T& blank() {
    static const T value{};
    return value;
}

/// What is kept in an optional, a Rare, a Placed.
template <class M>
const auto& bare(const M& m) {
    if constexpr (Holder<M>)
        return bare(*m);
    else if constexpr (IsPlaced<M>)
        return m.value;
    else
        return m;
}

/// Where a member is written, or the first of several; unset if it does not say.
template <class M>
Mark mark_of(const M& m) {
    if constexpr (Holder<M>)
        return m ? mark_of(*m) : Mark{};
    else if constexpr (requires { Mark(m.at); })
        return m.at;
    else if constexpr (requires { m.front(); })
        return m.empty() ? Mark{} : mark_of(m.front());
    else
        return {};
}

template <class M, class V>
void put(M& into, V value, Mark at) {
    if constexpr (Holder<M>) {
        Held<M> inner{};
        put(inner, std::move(value), at);
        into = std::move(inner);
    } else if constexpr (IsPlaced<M>) {
        using Inner = decltype(into.value);
        into = M(static_cast<Inner>(std::move(value)), at);
    } else {
        into = static_cast<M>(std::move(value));
    }
}

/// What it holds, made if there is none yet; itself if it is no holder.
template <class M>
auto& held(M& m) {
    if constexpr (Holder<M>) {
        if (!m)
            m = Held<M>{};
        return *m;
    } else {
        return m;
    }
}

/// Whether a value of which nothing is written says something by being there.
template <class T>
inline constexpr bool means_something = false;
template <>
inline constexpr bool means_something<Tunnel> = true;

template <auto first, auto... rest>
struct Path {
    using Owner = typename MemberOf<decltype(first)>::Owner;
    using Type = typename MemberOf<decltype(first)>::Type;

    static const auto* get(const Owner& of) {
        if constexpr (sizeof...(rest) == 0)
            return &(of.*first);
        else if constexpr (Holder<Type>)
            return of.*first ? Path<rest...>::get(*(of.*first)) : nullptr;
        else
            return Path<rest...>::get(of.*first);
    }
    static auto& make(Owner& of) {
        if constexpr (sizeof...(rest) == 0)
            return of.*first;
        else
            return Path<rest...>::make(held(of.*first));
    }
    /// Takes away what is held on the way and says nothing.
    static void tidy(Owner& of) {
        if constexpr (sizeof...(rest) != 0) {
            Path<rest...>::tidy(held(of.*first));
            if constexpr (Holder<Type>)
                if (!means_something<Held<Type>> && *(of.*first) == blank<Held<Type>>())
                    (of.*first).reset();
        }
    }
    static const auto& usual() {
        if constexpr (sizeof...(rest) == 0)
            return blank<Owner>().*first;
        else
            return Path<rest...>::usual();
    }
};

/// A codec of entries, which makes changes of them one by one.
template <class C, class M>
concept OfEntries = requires(Change& change, Steps rest, M& m) {
    { C::change(change, rest, m) } -> std::same_as<bool>;
};

/// The field of a member, or of one inside it; it is always written if `always`.
template <class Codec, auto first, auto... rest>
constexpr auto field(std::string_view key, std::string_view about, std::string_view usual = {},
                     bool always = false) {
    using P = Path<first, rest...>;
    using Owner = typename P::Owner;
    Field<Owner> made;
    made.key = key;
    made.about = about;
    made.usual = usual;
    made.shape = &Codec::shape;
    made.read = [](Reader& r, NodeId node, std::string_view own, Owner& into) {
        Codec::read(r, node, own, P::make(into));
        P::tidy(into);
    };
    if (always)
        made.write = [](const Owner& of) { return Codec::write(*P::get(of)); };
    else
        made.write = [](const Owner& of) {
            const auto* leaf = P::get(of);
            return leaf == nullptr || *leaf == P::usual() ? Value{} : Codec::write(*leaf);
        };
    made.reset = [](Owner& into) {
        P::make(into) = P::usual();
        P::tidy(into);
    };
    made.at = [](const Owner& of) {
        const auto* leaf = P::get(of);
        return leaf == nullptr ? Mark{} : mark_of(*leaf);
    };
    if constexpr (OfEntries<Codec,
                            std::remove_reference_t<decltype(P::make(std::declval<Owner&>()))>>)
        made.change = [](Change& change, Steps steps, Owner& into) {
            const bool is_made = Codec::change(change, steps, P::make(into));
            P::tidy(into);
            return is_made;
        };
    made.members = {tag<first>, tag<rest>...};
    return made;
}

/// The field of several members: its codec reads into the entry, and writes what it has.
template <class Codec, auto first, auto... others>
constexpr auto whole(std::string_view key, std::string_view about, std::string_view usual = {}) {
    using Owner = typename MemberOf<decltype(first)>::Owner;
    Field<Owner> made;
    made.key = key;
    made.about = about;
    made.usual = usual;
    made.shape = &Codec::shape;
    made.read = &Codec::read;
    made.write = &Codec::write;
    made.reset = [](Owner& into) {
        into.*first = blank<Owner>().*first;
        ((into.*others = blank<Owner>().*others), ...);
    };
    made.at = [](const Owner& of) { return mark_of(of.*first); };
    if constexpr (OfEntries<Codec, Owner>)
        made.change = &Codec::change;
    made.members = {tag<first>, tag<others>...};
    return made;
}

// --- codecs of collections ---------------------------------------------------------------------

/// A codec of one value reads it by parse(r, node), which tells what is wrong, and writes it as
/// text(value).
template <class C>
struct Scalar {
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view, M& into) {
        if (auto value = C::parse(r, node))
            put(into, std::move(*value), r.at(node));
    }
    template <class M>
    static Value write(const M& of) {
        return Value::scalar(C::text(bare(of)));
    }
};

/// One value that stands alone, or a list of them.
template <class C, std::size_t most = Shape::any_number, std::size_t fewest = 0>
struct OneOrMore {
    static Shape shape() {
        Shape list{.list = {C::shape()}, .fewest = fewest, .most = most};
        return {.forms = {C::shape(), list}};
    }
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view, M& into) {
        into.clear();
        r.each_item(node, [&](NodeId item) {
            if (auto value = C::parse(r, item)) {
                typename M::value_type made{};
                put(made, std::move(*value), r.at(item));
                into.push_back(std::move(made));
            }
        });
    }
    template <class M>
    static Value write(const M& of) {
        std::vector<Value> items;
        for (const auto& value : of)
            items.push_back(Value::scalar(C::text(bare(value))));
        return Value::one_or_list(std::move(items));
    }
};

/// One for each address family at most.
template <class C, std::size_t fewest = 0>
struct PerFamily : OneOrMore<C, 2, fewest> {
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view key, M& into) {
        OneOrMore<C, 2, fewest>::read(r, node, key, into);
        if (into.size() > 2
            || (into.size() == 2 && into[0].value.family() == into[1].value.family()))
            r.problem(node, fmt::format("one {} for each address family at most", C::what));
    }
};

/// An entry that stands behind its key.
template <auto entry>
struct One {
    static Shape shape() { return {.sort = &sort_of<entry>}; }
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view, M& into) {
        typename std::remove_cvref_t<decltype(entry())>::Type made{};
        if constexpr (requires { made.at; })
            made.at = r.at(node);
        read_entry(r, node, entry(), made);
        into = std::move(made);
    }
    template <class M>
    static Value write(const M& of) {
        return written(bare(of), entry());
    }
    template <class M>
    static bool change(Change& change, Steps rest, M& into) {
        if constexpr (Holder<M>)
            if (!into)
                return false;
        if (rest.empty())
            return false;
        change_entry(change, rest, entry(), held(into));
        return true;
    }
};

/// A list of entries.
template <auto entry>
struct ListOf {
    static Shape shape() { return {.list = {One<entry>::shape()}}; }
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view key, M& into) {
        into.clear();
        read_list(r, node, key, [&](NodeId item) {
            typename M::value_type made{};
            made.at = r.at(item);
            read_entry(r, item, entry(), made);
            into.push_back(std::move(made));
        });
    }
    template <class M>
    static Value write(const M& of) {
        std::vector<Value> items;
        for (const auto& one : of)
            items.push_back(written(one, entry()));
        return Value::list(std::move(items));
    }
    template <class M>
    static bool change(Change& change, Steps rest, M& into) {
        auto given = [&] {
            typename M::value_type made{};
            made.at = change.at;
            change.read_value([&](Reader& r, NodeId node) { read_entry(r, node, entry(), made); });
            return made;
        };
        if (rest.empty()) {
            if (change.of().verb != Change::Verb::add)
                return false;
            auto made = given();
            auto is_it = [&](const auto& known) {
                return entry().is_same != nullptr ? entry().is_same(known, made) : known == made;
            };
            if (std::ranges::none_of(into, is_it)) // else it is there already
                into.push_back(std::move(made));
            return true;
        }
        const std::size_t i = rest.front().index;
        const bool is_new = rest.size() == 1 && change.of().verb == Change::Verb::add;
        if (rest.front().kind != Place::Step::Kind::index || (i >= into.size() && !is_new))
            change.refuse(rest.front());
        else if (rest.size() > 1)
            change_entry(change, rest.subspan(1), entry(), into[i]);
        else if (is_new)
            into.insert(into.begin() + static_cast<std::ptrdiff_t>(std::min(i, into.size())),
                        given());
        else if (change.of().verb == Change::Verb::remove)
            into.erase(into.begin() + static_cast<std::ptrdiff_t>(i));
        else
            into[i] = given();
        return true;
    }
};

/// `NAME: {…}` for each entry.
template <auto entry, NameKind kind>
struct Named {
    static Shape shape();
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view key, M& into) {
        into.reserve(into.size() + r.pair_count(node));
        r.each_pair(node, key, [&](NodeId name, NodeId value) {
            typename M::value_type made{};
            made.name = r.text(name);
            made.at = r.at(name);
            read_entry(r, value, entry(), made);
            into.push_back(std::move(made));
        });
    }
    template <class M>
    static Value write(const M& of) {
        Value map = Value::named();
        for (const auto& one : of)
            map.add(one.name, written(one, entry()));
        return map;
    }
    template <class M>
    static bool change(Change& change, Steps rest, M& into) {
        using One = typename M::value_type;
        if (rest.empty()) {
            if (change.of().verb == Change::Verb::order)
                put_in_order(change, into, [](const One& one) { return one.name; });
            return change.of().verb == Change::Verb::order;
        }
        const std::string& name = rest.front().word;
        auto found = std::ranges::find(into, name, &One::name);
        const bool is_there = found != into.end();
        if (rest.size() > 1 || change.of().verb == Change::Verb::remove) {
            if (!is_there)
                change.refuse(rest.front());
            else if (rest.size() > 1)
                change_entry(change, rest.subspan(1), entry(), *found);
            else
                into.erase(found);
            return true;
        }
        One made{};
        made.name = name;
        made.at = is_there ? found->at : change.at;
        change.read_value([&](Reader& r, NodeId node) { read_entry(r, node, entry(), made); });
        if (!is_there)
            into.push_back(std::move(made));
        else if (change.of().verb == Change::Verb::set)
            *found = std::move(made);
        else if (!(*found == made))
            change.refuse(fmt::format("there is another {} already", shown(name)));
        return true;
    }
};

} // namespace jackal::plan

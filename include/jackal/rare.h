// A value that is mostly not there, at the price of a pointer.
#pragma once

#include <memory>
#include <utility>

namespace jackal {

/// As std::optional in use, with the value kept apart: for members that few of many objects have.
/// Copies are deep.
/// Threads may share one that none of them changes.
template <class T>
class Rare {
  public:
    Rare() = default;
    Rare(T value) : value_(std::make_unique<T>(std::move(value))) {}
    Rare(const Rare& other) : value_(other ? std::make_unique<T>(*other) : nullptr) {}
    Rare(Rare&&) noexcept = default;
    Rare& operator=(const Rare& other) {
        value_ = other ? std::make_unique<T>(*other) : nullptr;
        return *this;
    }
    Rare& operator=(Rare&&) noexcept = default;
    ~Rare() = default;

    explicit operator bool() const { return value_ != nullptr; }
    T& operator*() { return *value_; }
    const T& operator*() const { return *value_; }
    T* operator->() { return value_.get(); }
    const T* operator->() const { return value_.get(); }
    T value_or(T other) const { return value_ ? *value_ : std::move(other); }
    void reset() { value_.reset(); }

    friend bool operator==(const Rare& a, const Rare& b) {
        return a && b ? *a == *b : bool(a) == bool(b);
    }

  private:
    std::unique_ptr<T> value_;
};

} // namespace jackal

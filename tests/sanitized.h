// A sanitized program is slower by far, and has no limits of its own: there less does.
#pragma once

#ifdef JACKAL_SANITIZED
constexpr bool sanitized = true;
#else
constexpr bool sanitized = false;
#endif

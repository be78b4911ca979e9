#define DOCTEST_CONFIG_IMPLEMENT_WITH_MAIN
#include <doctest/doctest.h>

#ifdef JACKAL_SANITIZED
// Graphviz keeps some of what it reads from a graph's tables.
extern "C" const char* __lsan_default_suppressions() {
    return "leak:libgvc";
}
#endif

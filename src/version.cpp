#include "jackal/version.h"

namespace jackal {

std::string_view version() {
    return JACKAL_VERSION;
}

} // namespace jackal

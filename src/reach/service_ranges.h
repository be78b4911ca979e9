// What ranges of services are asked with.
#pragma once

#include "jackal/reach/services.h"

namespace jackal::reach {

/// One of the services, which stands for all; none for echo requests.
std::optional<net::Service> example_of(const ServiceRange& range);

/// Throws std::length_error if there are more than limits::service_classes.
void refuse_many(const std::vector<ServiceRange>& classes);

} // namespace jackal::reach

// Answers in the formats that systems of continuous integration read: each with its line in the
// plan.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/plan.h"
#include "jackal/reach/check.h"
#include "jackal/reach/verify.h"

#include <string>

namespace jackal::exports {

/// The verdicts as JUnit XML: one suite, a test case for each expectation. The place in the plan
/// stands in `file` and `line`, and at the start of a failure's text with its column.
JACKAL_API std::string junit(const lab::Lab& lab, const std::vector<reach::Verdict>& verdicts);

/// The findings as SARIF 2.1.0 (OASIS): one run, a rule for each cause, a result for each finding.
JACKAL_API std::string sarif(const plan::Plan& plan, const lab::Lab& lab,
                             const reach::Check& check);

} // namespace jackal::exports

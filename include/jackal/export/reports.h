// Answers in the formats that systems of continuous integration and of review read.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/plan.h"
#include "jackal/reach/check.h"
#include "jackal/reach/compare.h"
#include "jackal/reach/verify.h"

#include <string>

namespace jackal::exports {

/// What differs, as Markdown (CommonMark, with the tables of GitHub's): a heading, then a section
/// for each kind of difference that there is.
JACKAL_API std::string comparison_markdown(const lab::Lab& before, const lab::Lab& after,
                                           const reach::Comparison& comparison);

/// The verdicts as JUnit XML: one suite, a test case for each expectation. The place in the plan
/// stands in `file` and `line`, and at the start of a failure's text with its column.
JACKAL_API std::string junit(const lab::Lab& lab, const std::vector<reach::Verdict>& verdicts);

/// The findings as SARIF 2.1.0 (OASIS): one run, a rule for each cause, a result for each finding.
JACKAL_API std::string sarif(const lab::Lab& lab, const reach::Check& check);

} // namespace jackal::exports

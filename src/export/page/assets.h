// What the page is made of besides its data, from the files of this folder.
#pragma once

#include <string_view>

namespace jackal::exports {

extern const std::string_view page_frame;  // frame.html
extern const std::string_view page_style;  // style.css
extern const std::string_view page_script; // script.js

} // namespace jackal::exports

# Writes a C++ source that defines jackal::cli::demo_plan as the bytes of a file.
#   cmake -DINPUT=FILE -DOUTPUT=FILE.cpp -P embed.cmake
file(READ ${INPUT} hex HEX)
string(REGEX REPLACE "(..)" "'\\\\x\\1'," bytes "${hex}")
string(REGEX REPLACE "(('[^']*',){16})" "\\1\n    " bytes "${bytes}")
file(WRITE ${OUTPUT} "#include \"demo_plan.h\"

namespace jackal::cli {

namespace {

constexpr char bytes[] = {
    ${bytes}
};

} // namespace

const std::string_view demo_plan(bytes, sizeof bytes);

} // namespace jackal::cli
")

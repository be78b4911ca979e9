# Writes a C++ source that defines a std::string_view as the bytes of a file.
#   cmake -DINPUT=FILE -DOUTPUT=FILE.cpp -DHEADER=HEADER -DNAMESPACE=NAMESPACE -DNAME=NAME -P embed.cmake
file(READ ${INPUT} hex HEX)
string(REGEX REPLACE "(..)" "'\\\\x\\1'," bytes "${hex}")
string(REGEX REPLACE "(('[^']*',){16})" "\\1\n    " bytes "${bytes}")
file(WRITE ${OUTPUT} "#include \"${HEADER}\"

namespace ${NAMESPACE} {

namespace {

constexpr char ${NAME}_bytes[] = {
    ${bytes}
};

} // namespace

const std::string_view ${NAME}(${NAME}_bytes, sizeof ${NAME}_bytes);

} // namespace ${NAMESPACE}
")

# What `cmake --install` puts where, and the Debian package.
include(CMakePackageConfigHelpers)

set(config_dir ${CMAKE_INSTALL_LIBDIR}/cmake/jackal)
install(TARGETS jackal EXPORT jackal)
install(DIRECTORY include/jackal DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
install(EXPORT jackal NAMESPACE jackal:: FILE jackal-targets.cmake DESTINATION ${config_dir})
configure_package_config_file(cmake/jackal-config.cmake.in jackal-config.cmake
                              INSTALL_DESTINATION ${config_dir})
# Until 1.0 a new minor version may change the interface.
write_basic_package_version_file(jackal-config-version.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${PROJECT_BINARY_DIR}/jackal-config.cmake
              ${PROJECT_BINARY_DIR}/jackal-config-version.cmake
        DESTINATION ${config_dir})
# The .pc file finds its prefix from where it stands, so the tree can be moved.
file(RELATIVE_PATH up_to_prefix /${CMAKE_INSTALL_LIBDIR}/pkgconfig /)
configure_file(cmake/jackal.pc.in jackal.pc @ONLY)
install(FILES ${PROJECT_BINARY_DIR}/jackal.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)

install(FILES schema/jackal.schema.json DESTINATION ${CMAKE_INSTALL_DATADIR}/jackal)
install(DIRECTORY demo DESTINATION ${CMAKE_INSTALL_DATADIR}/jackal)
install(FILES README.md CHANGELOG.md LICENSE DESTINATION ${CMAKE_INSTALL_DOCDIR})
install(DIRECTORY docs/ DESTINATION ${CMAKE_INSTALL_DOCDIR}/docs)
if(NOT JACKAL_LIBRARY_ONLY)
    install(FILES cli/completion.bash RENAME jackal
            DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions)
endif()

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_CONTACT "Jackal maintainers <jackal@example.invalid>")
set(CPACK_PACKAGE_VENDOR "Jackal")
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SECTION net)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_RECOMMENDS "libfmt-dev, libgraphviz-dev, libtins-dev, libyaml-dev, pkg-config") # to link the static library
# The program for clusters has a package of its own, as it needs MPI.
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_DEBIAN_UNSPECIFIED_PACKAGE_NAME jackal)
set(CPACK_DEBIAN_CLUSTER_PACKAGE_NAME jackal-sweep)
set(CPACK_COMPONENT_CLUSTER_DESCRIPTION "Sweeps of a planned network lab, shared among many processes")
set(CPACK_DEBIAN_CLUSTER_PACKAGE_RECOMMENDS openmpi-bin)
set(CPACK_STRIP_FILES ON)
include(CPack)

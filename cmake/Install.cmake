# What is installed, in three parts that are Debian packages, too (cpack): the tool, the shared library, and what
# programs are built with.
install(TARGETS juniper RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT tool)
install(DIRECTORY ${JUNIPER_MANUAL}/ DESTINATION ${CMAKE_INSTALL_MANDIR}/man1 COMPONENT tool)
install(FILES tool/shells/juniper.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions RENAME juniper
        COMPONENT tool)
install(FILES tool/shells/juniper.fish DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d COMPONENT tool)
# Where zsh looks, which Debian keeps apart for packages.
if(CMAKE_INSTALL_PREFIX STREQUAL "/usr")
  set(zsh_functions zsh/vendor-completions)
else()
  set(zsh_functions zsh/site-functions)
endif()
install(FILES tool/shells/_juniper DESTINATION ${CMAKE_INSTALL_DATADIR}/${zsh_functions} COMPONENT tool)

install(TARGETS juniper_ridge_shared EXPORT JuniperRidgeTargets
        LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library NAMELINK_COMPONENT development)

install(DIRECTORY include/juniper DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT development)
set(cmake_files ${CMAKE_INSTALL_LIBDIR}/cmake/JuniperRidge)
install(EXPORT JuniperRidgeTargets NAMESPACE juniper:: DESTINATION ${cmake_files} COMPONENT development)
configure_package_config_file(cmake/JuniperRidgeConfig.cmake.in JuniperRidgeConfig.cmake INSTALL_DESTINATION ${cmake_files})
write_basic_package_version_file(JuniperRidgeConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/JuniperRidgeConfig.cmake
              ${CMAKE_CURRENT_BINARY_DIR}/JuniperRidgeConfigVersion.cmake
        DESTINATION ${cmake_files} COMPONENT development)
file(RELATIVE_PATH up_to_prefix /prefix/${CMAKE_INSTALL_LIBDIR}/pkgconfig /prefix)
configure_file(cmake/juniper-ridge.pc.in juniper-ridge.pc @ONLY)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/juniper-ridge.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig
        COMPONENT development)

set(runtime_version ${PROJECT_VERSION_MAJOR}.${PROJECT_VERSION_MINOR})
set(tool_package juniper-ridge)
set(library_package libjuniper-ridge${runtime_version})
set(development_package libjuniper-ridge-dev)
foreach(component tool library development)
  install(FILES LICENSE DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/${${component}_package} RENAME copyright
          COMPONENT ${component})
  string(TOUPPER ${component} upper)
  set(CPACK_DEBIAN_${upper}_PACKAGE_NAME ${${component}_package})
endforeach()
set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME juniper-ridge)
set(CPACK_PACKAGE_CONTACT "Juniper Ridge <maintainers@juniper-ridge.invalid>")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_COMPONENTS_ALL tool library development)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_LIBRARY_PACKAGE_GENERATE_SHLIBS ON)
set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_SHLIBDEPS OFF)
set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_DEPENDS "${library_package} (= ${PROJECT_VERSION}), libexpected-dev")
# Loaded where a model names a source that they reach.
set(CPACK_DEBIAN_LIBRARY_PACKAGE_RECOMMENDS "libpq5, libodbc2, libcurl4")
set(CPACK_DEBIAN_TOOL_PACKAGE_SECTION database)
set(CPACK_DEBIAN_LIBRARY_PACKAGE_SECTION libs)
set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_SECTION libdevel)
set(CPACK_COMPONENT_TOOL_DESCRIPTION
    "measure, slim down and regression-test columnar analytical models\n Tells where the bytes and the time of a model go, moves calculated columns into measures\n with proof, and guards the results of its queries.")
set(CPACK_COMPONENT_LIBRARY_DESCRIPTION
    "library of Juniper Ridge\n What the tool juniper does, for programs: models of tables, links, measures and queries over\n files of data.")
set(CPACK_COMPONENT_DEVELOPMENT_DESCRIPTION
    "library of Juniper Ridge, files for building programs\n Headers, and the files by which CMake and pkg-config find the library.")
include(CPack)

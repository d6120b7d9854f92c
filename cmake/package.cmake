# What `cmake --install` puts where, and the Debian package (cpack -G DEB; scripts/package).
include(GNUInstallDirs)

# Pages and completion are made by the program itself (by an emulator where it was built for another machine).
set(pages ${CMAKE_BINARY_DIR}/pages)
add_custom_command(
  OUTPUT ${pages}/wavecrest.bash
  COMMAND $<TARGET_FILE:wavecrest> write-pages ${pages}
  COMMAND sh -c "gzip -9nf '${pages}'/man1/*.1"
  DEPENDS wavecrest
  VERBATIM)

# Licences of what is compiled in, as the libraries' packages give them.
set(compiled_in libcli11-dev libtomlplusplus-dev nlohmann-json3-dev libexpected-dev)
set(licences "")
foreach(package ${compiled_in})
  list(APPEND licences /usr/share/doc/${package}/copyright)
endforeach()
add_custom_command(
  OUTPUT ${pages}/copyright
  COMMAND cat ${CMAKE_SOURCE_DIR}/packaging/copyright ${licences} > ${pages}/copyright
  COMMAND gzip -9nc ${CMAKE_SOURCE_DIR}/packaging/changelog > ${pages}/changelog.gz
  DEPENDS packaging/copyright packaging/changelog)
add_custom_target(pages DEPENDS ${pages}/wavecrest.bash ${pages}/copyright)

install(TARGETS wavecrest DESTINATION ${CMAKE_INSTALL_BINDIR})
install(DIRECTORY ${pages}/man1 DESTINATION ${CMAKE_INSTALL_MANDIR} FILES_MATCHING PATTERN *.gz)
install(FILES ${pages}/wavecrest.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions RENAME wavecrest)
install(FILES ${pages}/copyright ${pages}/changelog.gz docs/manual.md docs/tour.md DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/wavecrest)
install(DIRECTORY docs/screenshots DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/wavecrest)
install(FILES packaging/wavecrest@.service DESTINATION lib/systemd/system)
install(FILES packaging/sysusers.conf DESTINATION lib/sysusers.d RENAME wavecrest.conf)

set(CPACK_PACKAGE_NAME wavecrest)
set(CPACK_PACKAGE_CONTACT "Wavecrest developers <developers@wavecrest.example>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "convert discs, stream them, and test that every screen plays them")
set(CPACK_DEBIAN_PACKAGE_DESCRIPTION
"For home theater installers: reads ripped DVD-Video and Blu-ray discs and media files, converts them into what the
devices of a house can play, streams them by HTTP, HLS, UDP, RTP and RTMP, and tests codec support, bit rate and smooth
playback as each device would see them, with a report to hand over.")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SECTION video)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_DEPENDS "passwd, libsmbclient")  # (nothing is linked with the latter)
set(CPACK_DEBIAN_PACKAGE_RECOMMENDS "gnuplot-nox, fonts-dejavu-core")
set(CPACK_DEBIAN_PACKAGE_CONTROL_EXTRA ${CMAKE_SOURCE_DIR}/packaging/postinst ${CMAKE_SOURCE_DIR}/packaging/postrm)
set(CPACK_DEBIAN_PACKAGE_CONTROL_STRICT_PERMISSION ON)
set(CPACK_INSTALL_DEFAULT_DIRECTORY_PERMISSIONS OWNER_READ OWNER_WRITE OWNER_EXECUTE GROUP_READ GROUP_EXECUTE WORLD_READ WORLD_EXECUTE)
include(CPack)

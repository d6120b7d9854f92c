# Compiles the files of a folder several at a time, so that what they all include and instantiate is done once: a build from
# nothing takes some two fifths less. After a change it takes longer, so that only CI does it (WAVECREST_TOGETHER).
option(WAVECREST_TOGETHER "Compile files several at a time: faster from nothing, slower after a change" OFF)

# What can't be: folders and files that give one name two meanings in their unnamed namespaces, or that have a library's header
# see macros of their own.
set(apart src/disc/ src/job/
  src/cli/command_line src/codec/ac3_encoder src/codec/h264/kernels src/codec/subpicture src/codec/x265_encoder
  src/container/cmaf src/container/dash_manifest src/container/mp4_writer src/container/ps_reader src/filter/whole_frames
  src/measure/viewing src/net/http_server src/net/http_source src/net/rtmp_server src/net/tls src/net/udp_socket
  src/report/results src/share/location src/share/ntlm src/share/smb_library src/share/upload src/share/ws_discovery
  src/stream/live_ladder src/upnp/search_criteria src/verify/datagrams src/verify/receiving
  tests/cli/browser_formats_test tests/cli/stream_verify_test tests/codec/h264_syntax_test tests/codec/mpeg2_encoder_test
  tests/codec/two_pass_test tests/codec/video_encoders_test tests/convert/fidelity_test tests/convert/weigh_test
  tests/disc/rich_ tests/library/media_server_test tests/support/ tests/verify/seen_test)

# Puts files that include `at_a_time` of them each in the place of those of the list named `sources`.
function(put_together sources at_a_time)
  if(NOT WAVECREST_TOGETHER)
    return()
  endif()
  set(alone "")
  set(groups "")
  foreach(file ${${sources}})
    file(RELATIVE_PATH name ${CMAKE_SOURCE_DIR} ${file})
    set(stays FALSE)
    foreach(one ${apart})
      string(FIND ${name} ${one} at)
      if(at EQUAL 0)
        set(stays TRUE)
      endif()
    endforeach()
    get_source_file_property(options ${file} COMPILE_OPTIONS)
    get_filename_component(folder ${name} DIRECTORY)
    string(MAKE_C_IDENTIFIER "${folder} ${options}" group)
    if(stays)
      list(APPEND alone ${file})
    else()
      list(APPEND groups ${group})
      list(APPEND files_${group} ${file})
      set(options_${group} "${options}")
    endif()
  endforeach()
  list(REMOVE_DUPLICATES groups)
  foreach(group ${groups})
    set(number 0)
    while(files_${group})
      list(LENGTH files_${group} left)
      set(text "")
      set(count 0)
      while(files_${group} AND count LESS at_a_time)
        list(POP_FRONT files_${group} file)
        string(APPEND text "#include \"${file}\"\n")
        math(EXPR count "${count} + 1")
      endwhile()
      if(left EQUAL 1)  # (with its other properties)
        list(APPEND alone ${file})
        break()
      endif()
      set(made ${CMAKE_BINARY_DIR}/together/${group}_${number}.cpp)
      file(CONFIGURE OUTPUT ${made} CONTENT "${text}" @ONLY)
      # (Types whose members are of an unnamed namespace count as shared, since they don't lie in the main file.)
      set_source_files_properties(${made} PROPERTIES COMPILE_OPTIONS "-Wno-subobject-linkage;-Wno-shadow")
      if(options_${group})
        set_property(SOURCE ${made} APPEND PROPERTY COMPILE_OPTIONS "${options_${group}}")
      endif()
      list(APPEND alone ${made})
      math(EXPR number "${number} + 1")
    endwhile()
  endforeach()
  set(${sources} ${alone} PARENT_SCOPE)
endfunction()

# A sample disc of 12 s and an extra of 3 s, the film converted from it, and both in other formats.
# What the same program made in an earlier run is kept, with the discs and tracks that tests put beside it.
file(SHA256 ${PROGRAM} made_by)
file(SHA256 ${CMAKE_CURRENT_LIST_FILE} made_as)
string(APPEND made_by ${made_as})
if(EXISTS ${FOLDER}/made-by.txt)
  file(READ ${FOLDER}/made-by.txt kept)
  if(kept STREQUAL made_by)
    return()
  endif()
endif()
file(REMOVE_RECURSE ${FOLDER})
file(MAKE_DIRECTORY ${FOLDER})
# Close keyframes keep the browser's frame-by-frame seeks short.
file(WRITE ${FOLDER}/test.toml "name = \"test\"\n[video]\neffort = 4\nvisual_quality = 77.5\nkeyframe_interval = \"1 s\"\n[audio]\nbitrate = \"160 kbit/s\"\n")
# A ladder of three rungs with a subtitle file.
set(rungs "[[rung]]\nmax_size = \"480p\"\npeak_bitrate = \"1500 kbit/s\"\n[[rung]]\nmax_size = \"360p\"\npeak_bitrate = \"700 kbit/s\"\n[[rung]]\nmax_size = \"180p\"\npeak_bitrate = \"200 kbit/s\"\n")
file(WRITE ${FOLDER}/ladder.toml "name = \"ladder\"\n[video]\neffort = 1\nvisual_quality = 72\nkeyframe_interval = \"1 s\"\n[audio]\nbitrate = \"96 kbit/s\"\n${rungs}")
file(WRITE ${FOLDER}/lake.en.srt "1\n00:00:01,000 --> 00:00:03,000\nThe lake is quiet.\n\n2\n00:00:05,000 --> 00:00:07,500\nTonight it isn't.\n")
foreach(arguments
    "standin;disc;Sample Film (2020);--length;12 s;--extra;3 s;-q"
    "convert;Sample Film (2020);--into;library;--profile;test.toml;-q"
    "convert;Sample Film (2020);--into;ladders;--profile;ladder.toml;--subtitle-file;lake.en.srt;-q"
    "convert;Sample Film (2020);--remux;matroska;--into;formats;--name;disc;-q"
    "convert;library/Sample Film (2020)/Sample Film (2020).mp4;--remux;mpeg-ts;--into;formats;--name;film;-q"
    "convert;library/Sample Film (2020)/Sample Film (2020).mp4;--remux;flv;--into;formats;--name;film;-q"
    "convert;library/Sample Film (2020)/Sample Film (2020).mp4;--remux;adts;--into;formats;--name;film;-q")
  # (Its list of jobs is not that of whoever runs the tests.)
  execute_process(COMMAND ${CMAKE_COMMAND} -E env XDG_STATE_HOME=${FOLDER}/state ${PROGRAM} ${arguments} WORKING_DIRECTORY ${FOLDER} RESULT_VARIABLE result OUTPUT_QUIET)
  if(NOT result EQUAL 0)
    message(FATAL_ERROR "wavecrest ${arguments} ended with ${result}")
  endif()
endforeach()
file(WRITE ${FOLDER}/made-by.txt ${made_by})

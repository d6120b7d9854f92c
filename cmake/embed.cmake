# Writes OUTPUT, a C++ file holding each of FILES as a string, named by its path below ROOT (see base/embedded.hpp).
set(body "// Made by cmake/embed.cmake from data/.\n#include \"base/embedded.hpp\"\n\nnamespace wavecrest::base {\n\nconst std::vector<EmbeddedFile>& embedded_files() {\n    static const std::vector<EmbeddedFile> files = {\n")
foreach(file ${FILES})
  file(RELATIVE_PATH name ${ROOT} ${file})
  file(READ ${file} text)
  string(APPEND body "        {\"${name}\", R\"embedded(${text})embedded\"},\n")
endforeach()
string(APPEND body "    };\n    return files;\n}\n\n}  // namespace wavecrest::base\n")
file(WRITE ${OUTPUT} "${body}")

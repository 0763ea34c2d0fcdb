# Run while a component is installed; acts when that is done for a Debian package, LATHE_PACKAGE.
set(root "$ENV{DESTDIR}${CMAKE_INSTALL_PREFIX}")
if(NOT root MATCHES "_CPack_Packages")
  return()
endif()
set(documents "${root}/share/doc/${LATHE_PACKAGE}")
file(MAKE_DIRECTORY "${documents}")
file(WRITE "${documents}/copyright" "Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/
Upstream-Name: Mellow Lathe

Files: *
Copyright: 2026 the founders of Mellow Lathe
License: Apache-2.0
 On Debian systems the text of this license is in /usr/share/common-licenses/Apache-2.0.
")
file(WRITE "${documents}/changelog.Debian" "mellowlathe (${LATHE_VERSION}-1) bookworm; urgency=medium

  * Built from this version's source.

 -- Mellow Lathe founders <mellow-lathe@example.org>  Sat, 28 Nov 2026 12:00:00 +0000
")
file(GLOB_RECURSE pages "${root}/share/man/*.[1-9]")
foreach(file IN LISTS pages ITEMS "${documents}/changelog.Debian")
  execute_process(COMMAND gzip -9nf "${file}" COMMAND_ERROR_IS_FATAL ANY)
endforeach()
file(GLOB_RECURSE programs "${root}/bin/*" "${root}/lib/python3/*.so")
foreach(file IN LISTS programs)
  file(RPATH_REMOVE FILE "${file}")
endforeach()

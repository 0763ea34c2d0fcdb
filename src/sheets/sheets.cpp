// The room is a header: every sheet instantiates what it reads.
#include "sheets/keys.hpp"

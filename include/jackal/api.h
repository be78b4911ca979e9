// Marks what the shared library shows to its users; everything else in it stays hidden.
#pragma once

#define JACKAL_API __attribute__((visibility("default")))

#include "lamp.h"
unsigned char lamp_state(void) { return LIT; }

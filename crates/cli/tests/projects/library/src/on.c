#include "lamp.h"
int lamp_on(void) { return LIT; }

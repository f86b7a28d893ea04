#include "lamp.h"
int lamp(void) { return LAMP; }

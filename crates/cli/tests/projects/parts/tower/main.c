#include <stdio.h>
#include "lamp.h"
int main(void) { printf("%d", lamp()); return 0; }

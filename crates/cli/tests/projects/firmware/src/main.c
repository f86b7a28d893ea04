#include <avr/io.h>
#include "lamp.h"
int main(void) { DDRB = 1; for (;;) { PORTB = lamp_state(); } }

int lamp_off(void) { return 0; }

#include <string.h>

#include "light.h"

#include "lights.h"

#define COUNT ((int)(sizeof lights / sizeof *lights))

const struct light *light_at(int index) { return index >= 0 && index < COUNT ? &lights[index] : 0; }

const struct light *light_find(const char *key)
{
    for (int i = 0; i < COUNT; i++)
        if (strcmp(lights[i].key, key) == 0)
            return &lights[i];
    return 0;
}

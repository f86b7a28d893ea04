#include "range.h"

#include <math.h>

#define EYE 5.0
#define THRESHOLD 2e-7 /* lux at the eye that is just seen */
#define MILE 1852.0

double range_geographic(double height) { return 2.08 * (sqrt(height) + sqrt(EYE)); }

static double lux(double candela, double miles)
{
    double metres = miles * MILE;
    return candela / (metres * metres) * pow(0.05, miles / 10.0);
}

double range_luminous(double candela)
{
    double near = 0.01, far = 200.0;
    for (int i = 0; i < 60; i++) {
        double middle = (near + far) / 2;
        if (lux(candela, middle) > THRESHOLD)
            near = middle;
        else
            far = middle;
    }
    return near;
}

double range(double height, double candela)
{
    double over = range_geographic(height), through = range_luminous(candela);
    return over < through ? over : through;
}

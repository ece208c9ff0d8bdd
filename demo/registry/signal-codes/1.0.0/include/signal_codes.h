/* Codes of the signals between stations, edition 1.0.0. */
#ifndef SIGNAL_CODES_H
#define SIGNAL_CODES_H
#define SIGNAL_STOP 10
#define SIGNAL_SLOW 11
#define SIGNAL_GO   12
#endif

/* Codes of the signals between stations, edition 2.0.0. */
#ifndef SIGNAL_CODES_H
#define SIGNAL_CODES_H
#define SIGNAL_STOP 100
#define SIGNAL_SLOW 101
#define SIGNAL_GO   102
#endif

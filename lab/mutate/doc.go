// Command mutate changes the judgement of packages in one place at a time, and says which changes none of their own
// tests notices: in a switch, in which most of it is written, each case's condition is negated and each case left out;
// everywhere each comparison has its bound moved by one. What is changed is in memory alone.
//
//	mutate [-only EXPRESSION] PACKAGE...
package main

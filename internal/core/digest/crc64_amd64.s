#include "textflag.h"

// func fold(lanes *[8]uint64, p *byte, blocks int, k *[2]uint64)
TEXT ·fold(SB), NOSPLIT, $0-32
	MOVQ  lanes+0(FP), DI
	MOVQ  p+8(FP), SI
	MOVQ  blocks+16(FP), CX
	MOVQ  k+24(FP), DX
	MOVOU (DX), X8
	MOVOU (DI), X0
	MOVOU 16(DI), X1
	MOVOU 32(DI), X2
	MOVOU 48(DI), X3

loop:
	MOVOU     X0, X4
	MOVOU     X1, X5
	MOVOU     X2, X6
	MOVOU     X3, X7
	PCLMULQDQ $0x00, X8, X0
	PCLMULQDQ $0x00, X8, X1
	PCLMULQDQ $0x00, X8, X2
	PCLMULQDQ $0x00, X8, X3
	PCLMULQDQ $0x11, X8, X4
	PCLMULQDQ $0x11, X8, X5
	PCLMULQDQ $0x11, X8, X6
	PCLMULQDQ $0x11, X8, X7
	PXOR      X4, X0
	PXOR      X5, X1
	PXOR      X6, X2
	PXOR      X7, X3
	MOVOU     (SI), X9
	MOVOU     16(SI), X10
	MOVOU     32(SI), X11
	MOVOU     48(SI), X12
	PXOR      X9, X0
	PXOR      X10, X1
	PXOR      X11, X2
	PXOR      X12, X3
	ADDQ      $64, SI
	DECQ      CX
	JNZ       loop

	MOVOU X0, (DI)
	MOVOU X1, 16(DI)
	MOVOU X2, 32(DI)
	MOVOU X3, 48(DI)
	RET

// func canFold() bool
TEXT ·canFold(SB), NOSPLIT, $0-1
	MOVL  $1, AX
	XORL  CX, CX
	CPUID
	SHRL  $1, CX
	ANDL  $1, CX
	MOVB  CX, ret+0(FP)
	RET

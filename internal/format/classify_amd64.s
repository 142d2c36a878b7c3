#include "textflag.h"

DATA ·bytesOf+0(SB)/1, $0x22 // quote
DATA ·bytesOf+1(SB)/1, $0x5c // backslash
DATA ·bytesOf+2(SB)/1, $0x20 // blank; also what makes a bracket a brace
DATA ·bytesOf+3(SB)/1, $0x7b // opening brace
DATA ·bytesOf+4(SB)/1, $0x7d // closing brace
DATA ·bytesOf+5(SB)/1, $0x3a // colon
DATA ·bytesOf+6(SB)/1, $0x2c // comma
DATA ·bytesOf+7(SB)/1, $0x1f // the last control character
DATA ·bytesOf+8(SB)/1, $0x09 // tab
DATA ·bytesOf+9(SB)/1, $0x0a // line feed
DATA ·bytesOf+10(SB)/1, $0x0d // carriage return
GLOBL ·bytesOf(SB), RODATA|NOPTR, $11

// HALF sorts the 32 bytes in Y0 and writes its halves of the six words at DI, off bytes behind.
#define HALF(off) \
	VPOR      Y0, Y15, Y15 \
	VPCMPEQB  Y0, Y1, Y12  \
	VPMOVMSKB Y12, AX      \
	MOVL      AX, off(DI)  \
	VPCMPEQB  Y0, Y2, Y12  \
	VPMOVMSKB Y12, AX      \
	MOVL      AX, (off+8)(DI) \
	VPOR      Y0, Y3, Y13  \
	VPCMPEQB  Y13, Y4, Y12 \
	VPCMPEQB  Y13, Y5, Y13 \
	VPOR      Y13, Y12, Y12 \
	VPCMPEQB  Y0, Y6, Y13  \
	VPOR      Y13, Y12, Y12 \
	VPCMPEQB  Y0, Y7, Y13  \
	VPOR      Y13, Y12, Y12 \
	VPMOVMSKB Y12, AX      \
	MOVL      AX, (off+16)(DI) \
	VPMINUB   Y0, Y3, Y12  \
	VPCMPEQB  Y0, Y12, Y12 \
	VPMOVMSKB Y12, AX      \
	MOVL      AX, (off+24)(DI) \
	VPMINUB   Y0, Y8, Y12  \
	VPCMPEQB  Y0, Y12, Y12 \
	VPMOVMSKB Y12, AX      \
	MOVL      AX, (off+32)(DI) \
	VPCMPEQB  Y0, Y9, Y13  \
	VPANDN    Y12, Y13, Y12 \
	VPCMPEQB  Y0, Y10, Y13 \
	VPANDN    Y12, Y13, Y12 \
	VPCMPEQB  Y0, Y11, Y13 \
	VPANDN    Y12, Y13, Y12 \
	VPMOVMSKB Y12, AX      \
	MOVL      AX, (off+40)(DI)

// func classifyAVX2(p *byte, blocks int, out *block) (high uint32)
TEXT ·classifyAVX2(SB), NOSPLIT, $0-28
	MOVQ p+0(FP), SI
	MOVQ blocks+8(FP), CX
	MOVQ out+16(FP), DI
	VPBROADCASTB ·bytesOf+0(SB), Y1
	VPBROADCASTB ·bytesOf+1(SB), Y2
	VPBROADCASTB ·bytesOf+2(SB), Y3
	VPBROADCASTB ·bytesOf+3(SB), Y4
	VPBROADCASTB ·bytesOf+4(SB), Y5
	VPBROADCASTB ·bytesOf+5(SB), Y6
	VPBROADCASTB ·bytesOf+6(SB), Y7
	VPBROADCASTB ·bytesOf+7(SB), Y8
	VPBROADCASTB ·bytesOf+8(SB), Y9
	VPBROADCASTB ·bytesOf+9(SB), Y10
	VPBROADCASTB ·bytesOf+10(SB), Y11
	VPXOR Y15, Y15, Y15

loop:
	TESTQ CX, CX
	JZ    done
	VMOVDQU (SI), Y0
	HALF(0)
	VMOVDQU 32(SI), Y0
	HALF(4)
	ADDQ $64, SI
	ADDQ $48, DI
	DECQ CX
	JMP  loop

done:
	VPMOVMSKB Y15, AX
	MOVL AX, high+24(FP)
	VZEROUPPER
	RET

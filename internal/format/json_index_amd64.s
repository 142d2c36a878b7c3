#include "textflag.h"

// What looks a byte up by its low half: white space, and marks with bit 0x20 set.
DATA ·whiteOf+0(SB)/8, $0x0264710064646420
DATA ·whiteOf+8(SB)/8, $0x64640d64700a0900
DATA ·whiteOf+16(SB)/8, $0x0264710064646420
DATA ·whiteOf+24(SB)/8, $0x64640d64700a0900
GLOBL ·whiteOf(SB), RODATA|NOPTR, $32
DATA ·markOf+0(SB)/8, $0x0000000000000000
DATA ·markOf+8(SB)/8, $0x00007d2c7b3a0000
DATA ·markOf+16(SB)/8, $0x0000000000000000
DATA ·markOf+24(SB)/8, $0x00007d2c7b3a0000
GLOBL ·markOf(SB), RODATA|NOPTR, $32
DATA ·byteOf+0(SB)/1, $0x22 // quote
DATA ·byteOf+1(SB)/1, $0x5c // backslash
DATA ·byteOf+2(SB)/1, $0x20 // what makes a bracket a brace
DATA ·byteOf+3(SB)/1, $0x1f // the last control character
GLOBL ·byteOf(SB), RODATA|NOPTR, $4

// EQUAL puts into OUT a bit for each byte of Y0 and Y1 that equals C's. It uses BX and Y9.
#define EQUAL(C, OUT) \
	VPCMPEQB  Y0, C, Y9 \
	VPMOVMSKB Y9, OUT   \
	VPCMPEQB  Y1, C, Y9 \
	VPMOVMSKB Y9, BX    \
	SHLQ      $32, BX   \
	ORQ       BX, OUT

// PLACE writes where the lowest bit of DX stands and takes it off.
#define PLACE(off) \
	TZCNTQ DX, AX       \
	ADDL   R13, AX      \
	MOVL   AX, off(DI)  \
	BLSRQ  DX, DX

// func indexWide(p *byte, blocks int, words *[2]uint64, at *uint32, c *carry)
TEXT ·indexWide(SB), NOSPLIT, $0-40
	MOVQ p+0(FP), SI
	MOVQ blocks+8(FP), CX
	MOVQ words+16(FP), R8
	MOVQ at+24(FP), DI
	MOVQ c+32(FP), AX
	MOVQ 0(AX), R9   // inside
	MOVQ 8(AX), R10  // token
	MOVQ 16(AX), R11 // skip
	MOVQ 24(AX), R12 // wrong
	MOVQ 48(AX), R13 // base
	VPBROADCASTB ·byteOf+0(SB), Y2
	VPBROADCASTB ·byteOf+1(SB), Y3
	VPBROADCASTB ·byteOf+2(SB), Y4
	VPBROADCASTB ·byteOf+3(SB), Y7
	VMOVDQU ·whiteOf(SB), Y5
	VMOVDQU ·markOf(SB), Y6
	VPCMPEQB Y8, Y8, Y8
	VPXOR Y11, Y11, Y11 // bytes beyond ASCII
	VPXOR Y12, Y12, Y12 // escapes

loop:
	TESTQ CX, CX
	JZ    done
	VMOVDQU (SI), Y0
	VMOVDQU 32(SI), Y1
	VPOR Y0, Y11, Y11
	VPOR Y1, Y11, Y11

	// Escapes: runs of backslashes by their length, odd or even.
	EQUAL(Y3, AX)
	MOVQ R11, DX
	NOTQ DX
	ANDQ AX, DX // may begin an escape
	LEAQ (DX)(DX*1), R15
	MOVQ $0xAAAAAAAAAAAAAAAA, BX
	ORQ  BX, R15
	SUBQ DX, R15
	XORQ BX, R15
	MOVQ AX, DX
	ORQ  R11, DX
	XORQ R15, DX // is escaped
	ANDQ AX, R15 // begins an escape
	MOVQ R15, 8(R8)
	MOVQ R15, R11
	SHRQ $63, R11
	VMOVQ R15, X9
	VPOR Y9, Y12, Y12

	// Strings.
	EQUAL(Y2, R14)
	NOTQ DX
	ANDQ DX, R14
	MOVQ R14, 0(R8)
	ADDQ $16, R8
	VMOVQ R14, X9
	VPCLMULQDQ $0, X8, X9, X9
	VMOVQ X9, R15
	XORQ R9, R15 // inside, with the opening quote
	MOVQ R15, R9
	SARQ $63, R9

	// White space and control characters.
	VPSHUFB   Y0, Y5, Y9
	VPCMPEQB  Y0, Y9, Y9
	VPMOVMSKB Y9, DX
	VPSHUFB   Y1, Y5, Y9
	VPCMPEQB  Y1, Y9, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, DX
	VPMINUB   Y0, Y7, Y9
	VPCMPEQB  Y0, Y9, Y9
	VPMOVMSKB Y9, AX
	VPMINUB   Y1, Y7, Y9
	VPCMPEQB  Y1, Y9, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	MOVQ      DX, BX
	NOTQ      BX
	ORQ       R15, BX
	ANDQ      BX, AX
	ORQ       AX, R12

	// Marks.
	VPSHUFB   Y0, Y6, Y9
	VPOR      Y0, Y4, Y10
	VPCMPEQB  Y10, Y9, Y9
	VPMOVMSKB Y9, AX
	VPSHUFB   Y1, Y6, Y9
	VPOR      Y1, Y4, Y10
	VPCMPEQB  Y10, Y9, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX

	// Where tokens begin: marks outside, opening quotes, the first of all other bytes.
	ORQ  AX, DX
	ORQ  R14, DX
	ORQ  R15, DX
	NOTQ DX                   // others
	LEAQ (R10)(DX*2), BX
	MOVQ DX, R10
	SHRQ $63, R10
	NOTQ BX
	ANDQ BX, DX
	ANDQ R15, R14
	ORQ  R14, DX
	NOTQ R15
	ANDQ R15, AX
	ORQ  AX, DX
	POPCNTQ DX, BX
	LEAQ (DI)(BX*4), R15
	PLACE(0)
	PLACE(4)
	PLACE(8)
	PLACE(12)
	PLACE(16)
	PLACE(20)
	PLACE(24)
	PLACE(28)
	TESTQ DX, DX
	JZ    next

more:
	ADDQ $32, DI
	PLACE(0)
	PLACE(4)
	PLACE(8)
	PLACE(12)
	PLACE(16)
	PLACE(20)
	PLACE(24)
	PLACE(28)
	TESTQ DX, DX
	JNZ   more

next:
	MOVQ R15, DI
	ADDQ $64, SI
	ADDL $64, R13
	DECQ CX
	JMP  loop

done:
	MOVQ c+32(FP), AX
	MOVQ R9, 0(AX)
	MOVQ R10, 8(AX)
	MOVQ R11, 16(AX)
	MOVQ R12, 24(AX)
	VPMOVMSKB Y11, BX
	ORQ  BX, 32(AX) // high
	VMOVQ X12, BX
	ORQ  BX, 40(AX) // escapes
	MOVQ R13, 48(AX)
	MOVQ at+24(FP), BX
	SUBQ BX, DI
	SHRQ $2, DI
	ADDQ DI, 56(AX) // tokens
	VZEROUPPER
	RET

// func parseWide(buf *byte, at *uint32, tokens int, keys, plain *uint32, t *parseTables, depth int) (n, plains int, state, over uint8)
TEXT ·parseWide(SB), NOSPLIT, $16-74
	MOVQ buf+0(FP), SI
	MOVQ at+8(FP), DI
	MOVQ tokens+16(FP), AX
	LEAQ (DI)(AX*4), AX
	MOVQ AX, end-8(SP)
	MOVQ keys+24(FP), R12
	MOVQ plain+32(FP), R15
	MOVQ t+40(FP), R8
	MOVQ depth+48(FP), AX
	INCQ AX
	MOVQ AX, limit-16(SP)
	XORL CX, CX   // token, times 256
	MOVL $8, R9   // state
	XORL R10, R10 // depth
	XORL R11, R11 // all depths
	XORL R13, R13 // keys
	XORL R14, R14 // plain values
	JMP  test

token:
	MOVL    (DI), AX
	MOVL    AX, (R15)(R14*4)
	MOVBLZX (SI)(AX*1), DX
	MOVBLZX (R8)(DX*1), DX     // class
	CMPL    DX, $1
	ADCQ    $0, R14
	MOVBLZX 512(R8)(R9*1), AX
	MOVBLZX 624(R8)(DX*1), BX
	ORL     R10, BX
	MOVB    AX, 736(R8)(BX*1)  // the state behind, if this begins something
	ORL     DX, R9
	MOVBLZX 256(R8)(R9*1), R9
	MOVBLZX 608(R8)(DX*1), AX
	ADDL    AX, R10
	ANDL    $255, R10
	ORL     R10, R11
	MOVBLZX 736(R8)(R10*1), AX
	CMPL    R9, $88            // what it was in decides
	CMOVLEQ AX, R9
	LEAL    (CX)(R10*1), AX
	MOVL    AX, (R12)(R13*4)
	MOVBLZX 640(R8)(R9*1), AX  // 0 behind a key
	ORL     R10, AX
	CMPQ    AX, limit-16(SP)
	ADCQ    $0, R13
	ADDL    $256, CX
	ADDQ    $4, DI

test:
	CMPQ DI, end-8(SP)
	JLT  token
	MOVQ R13, n+56(FP)
	MOVQ R14, plains+64(FP)
	MOVB R9, state+72(FP)
	MOVB R11, over+73(FP)
	RET

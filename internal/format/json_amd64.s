#include "textflag.h"

// The rows of blockMarks, and where they lie. A row has 32 words.
#define ROW(i) (i*256)
#define QUOTE ROW(0)
#define ESCAPE ROW(1)
#define CONTROL ROW(2)
#define WHITE ROW(3)
#define SIGN ROW(4)
#define OPEN ROW(5)
#define CLOSE ROW(6)
#define LETTER ROW(7)
#define COLON ROW(8)
#define COMMA ROW(9)
#define DIGIT ROW(10)
#define POINT ROW(11)
#define E ROW(12)
#define MINUS ROW(13)
#define PLUS ROW(14)
#define ZERO ROW(15)
#define ALONE ROW(16)
#define HEX ROW(17)
#define U ROW(18)
#define HIGH ROW(19)
#define START ROW(20)
#define BEFORE ROW(21)
#define PLAIN (ROW(21)+8)

// Registers full of a byte.
#define FULL(name, bytes) \
	DATA name+0(SB)/8, bytes  \
	DATA name+8(SB)/8, bytes  \
	DATA name+16(SB)/8, bytes \
	DATA name+24(SB)/8, bytes \
	GLOBL name(SB), RODATA|NOPTR, $32
FULL(·quoteOf, $0x2222222222222222)
FULL(·backslashOf, $0x5c5c5c5c5c5c5c5c)
FULL(·controlOf, $0x1f1f1f1f1f1f1f1f)
FULL(·lowerOf, $0x2020202020202020)
FULL(·letterOf, $0x5f5f5f5f5f5f5f5f)
FULL(·openOf, $0x7b7b7b7b7b7b7b7b)
FULL(·closeOf, $0x7d7d7d7d7d7d7d7d)
FULL(·colonOf, $0x3a3a3a3a3a3a3a3a)
FULL(·commaOf, $0x2c2c2c2c2c2c2c2c)
FULL(·pointOf, $0x2e2e2e2e2e2e2e2e)
FULL(·eOf, $0x6565656565656565)
FULL(·minusOf, $0x2d2d2d2d2d2d2d2d)
FULL(·plusOf, $0x2b2b2b2b2b2b2b2b)
FULL(·zeroOf, $0x3030303030303030)
FULL(·nineOf, $0x0909090909090909)
FULL(·uOf, $0x7575757575757575)
FULL(·lowOf, $0x0f0f0f0f0f0f0f0f)

// Tables of 16 bytes by the low half of a byte, twice: white space, and signs with bit 0x20 set.
#define TABLE(name, first, second) \
	DATA name+0(SB)/8, first   \
	DATA name+8(SB)/8, second  \
	DATA name+16(SB)/8, first  \
	DATA name+24(SB)/8, second \
	GLOBL name(SB), RODATA|NOPTR, $32
TABLE(·whiteTable, $0x0264710064646420, $0x64640d64700a0900)
TABLE(·signTable, $0x0000000000000000, $0x00007d2c7b3a0000)

// What a byte may be behind a backslash, by its halves (1, 2, 4, 8: which, so that the halves fit), and whether it is a
// hexadecimal digit (16, 32).
TABLE(·escapeLow, $0x10343838303d3010, $0x0104000200001010)
TABLE(·escapeHigh, $0x0824022010010000, $0x0000000000000000)

// EQUAL writes a row: a bit for each byte of A and B that equals C's.
#define EQUAL(A, B, C, row) \
	VPCMPEQB  C, A, Y9     \
	VPMOVMSKB Y9, AX       \
	VPCMPEQB  C, B, Y9     \
	VPMOVMSKB Y9, BX       \
	SHLQ      $32, BX      \
	ORQ       BX, AX       \
	MOVQ      AX, (row)(DI)

// SAME writes a row: a bit for each byte of A that equals B's, and of C that equals D's.
#define SAME(A, B, C, D, row) \
	VPCMPEQB  B, A, Y9     \
	VPMOVMSKB Y9, AX       \
	VPCMPEQB  D, C, Y9     \
	VPMOVMSKB Y9, BX       \
	SHLQ      $32, BX      \
	ORQ       BX, AX       \
	MOVQ      AX, (row)(DI)

// HAS writes a row: a bit for each byte of A and B that has any of C's bits. Y8 is 0.
#define HAS(A, B, C, row) \
	VPAND     C, A, Y9     \
	VPCMPEQB  Y8, Y9, Y9   \
	VPMOVMSKB Y9, AX       \
	VPAND     C, B, Y9     \
	VPCMPEQB  Y8, Y9, Y9   \
	VPMOVMSKB Y9, BX       \
	SHLQ      $32, BX      \
	ORQ       BX, AX       \
	NOTQ      AX           \
	MOVQ      AX, (row)(DI)

// ESCAPED puts into OUT what the bytes of IN are behind a backslash.
#define ESCAPED(IN, OUT) \
	VPSRLW  $4, IN, Y9             \
	VPAND   ·lowOf(SB), Y9, Y9     \
	VMOVDQU ·escapeHigh(SB), Y10   \
	VPSHUFB Y9, Y10, Y9            \
	VMOVDQU ·escapeLow(SB), Y10    \
	VPSHUFB IN, Y10, OUT           \
	VPAND   Y9, OUT, OUT

// func markBlocksWide(p *byte, n int, rows *uint64)
TEXT ·markBlocksWide(SB), NOSPLIT, $0-24
	MOVQ p+0(FP), SI
	MOVQ n+8(FP), CX
	MOVQ rows+16(FP), DI
	VPXOR Y8, Y8, Y8
	VMOVDQU ·whiteTable(SB), Y6
	VMOVDQU ·signTable(SB), Y5

block:
	VMOVDQU (SI), Y0
	VMOVDQU 32(SI), Y1
	VPOR    ·lowerOf(SB), Y0, Y2
	VPOR    ·lowerOf(SB), Y1, Y3
	EQUAL(Y0, Y1, ·quoteOf(SB), QUOTE)
	EQUAL(Y0, Y1, ·backslashOf(SB), ESCAPE)
	VPMINUB ·controlOf(SB), Y0, Y11
	VPMINUB ·controlOf(SB), Y1, Y12
	SAME(Y0, Y11, Y1, Y12, CONTROL)
	VPSHUFB Y0, Y6, Y11
	VPSHUFB Y1, Y6, Y12
	SAME(Y0, Y11, Y1, Y12, WHITE)
	VPSHUFB Y0, Y5, Y11
	VPSHUFB Y1, Y5, Y12
	SAME(Y2, Y11, Y3, Y12, SIGN)
	EQUAL(Y2, Y3, ·openOf(SB), OPEN)
	EQUAL(Y2, Y3, ·closeOf(SB), CLOSE)
	VPCMPGTB  ·letterOf(SB), Y0, Y9
	VPMOVMSKB Y9, AX
	VPCMPGTB  ·letterOf(SB), Y1, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	MOVQ      AX, LETTER(DI)
	EQUAL(Y0, Y1, ·colonOf(SB), COLON)
	EQUAL(Y0, Y1, ·commaOf(SB), COMMA)
	VPSUBB  ·zeroOf(SB), Y0, Y11
	VPSUBB  ·zeroOf(SB), Y1, Y12
	VPMINUB ·nineOf(SB), Y11, Y13
	VPMINUB ·nineOf(SB), Y12, Y14
	SAME(Y11, Y13, Y12, Y14, DIGIT)
	EQUAL(Y0, Y1, ·pointOf(SB), POINT)
	EQUAL(Y2, Y3, ·eOf(SB), E)
	EQUAL(Y0, Y1, ·minusOf(SB), MINUS)
	EQUAL(Y0, Y1, ·plusOf(SB), PLUS)
	EQUAL(Y0, Y1, ·zeroOf(SB), ZERO)
	ESCAPED(Y0, Y11)
	ESCAPED(Y1, Y12)
	HAS(Y11, Y12, ·lowOf(SB), ALONE)
	HAS(Y11, Y12, ·zeroOf(SB), HEX)
	EQUAL(Y0, Y1, ·uOf(SB), U)
	VPMOVMSKB Y0, AX
	VPMOVMSKB Y1, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	MOVQ      AX, HIGH(DI)
	ADDQ $64, SI
	ADDQ $8, DI
	DECQ CX
	JNZ  block
	VZEROUPPER
	RET

// EQUALS writes a row: a bit for each byte of A that equals B's.
#define EQUALS(A, B, row) \
	VPCMPEQB B, A, K1       \
	KMOVQ    K1, (row)(DI)

// func markBlocksWider(p *byte, n int, rows *uint64)
TEXT ·markBlocksWider(SB), NOSPLIT, $0-24
	MOVQ p+0(FP), SI
	MOVQ n+8(FP), CX
	MOVQ rows+16(FP), DI
	VPBROADCASTB ·quoteOf(SB), Z6
	VPBROADCASTB ·backslashOf(SB), Z7
	VPBROADCASTB ·lowerOf(SB), Z8
	VPBROADCASTB ·letterOf(SB), Z9
	VPBROADCASTB ·openOf(SB), Z10
	VPBROADCASTB ·closeOf(SB), Z11
	VPBROADCASTB ·colonOf(SB), Z12
	VPBROADCASTB ·commaOf(SB), Z13
	VPBROADCASTB ·pointOf(SB), Z14
	VPBROADCASTB ·eOf(SB), Z15
	VPBROADCASTB ·minusOf(SB), Z16
	VPBROADCASTB ·plusOf(SB), Z17
	VPBROADCASTB ·zeroOf(SB), Z18
	VPBROADCASTB ·nineOf(SB), Z19
	VPBROADCASTB ·uOf(SB), Z20
	VPBROADCASTB ·lowOf(SB), Z21
	VBROADCASTI64X4 ·whiteTable(SB), Z22
	VBROADCASTI64X4 ·signTable(SB), Z23
	VBROADCASTI64X4 ·escapeLow(SB), Z24
	VBROADCASTI64X4 ·escapeHigh(SB), Z25

block:
	VMOVDQU64 (SI), Z0
	VPORQ     Z8, Z0, Z1
	EQUALS(Z0, Z6, QUOTE)
	EQUALS(Z0, Z7, ESCAPE)
	VPCMPUB $1, Z8, Z0, K1 // less
	KMOVQ   K1, CONTROL(DI)
	VPSHUFB Z0, Z22, Z2
	EQUALS(Z0, Z2, WHITE)
	VPSHUFB Z0, Z23, Z2
	EQUALS(Z1, Z2, SIGN)
	EQUALS(Z1, Z10, OPEN)
	EQUALS(Z1, Z11, CLOSE)
	VPCMPGTB Z9, Z0, K1
	KMOVQ   K1, LETTER(DI)
	EQUALS(Z0, Z12, COLON)
	EQUALS(Z0, Z13, COMMA)
	VPSUBB  Z18, Z0, Z2
	VPCMPUB $2, Z19, Z2, K1 // not above
	KMOVQ   K1, DIGIT(DI)
	EQUALS(Z0, Z14, POINT)
	EQUALS(Z1, Z15, E)
	EQUALS(Z0, Z16, MINUS)
	EQUALS(Z0, Z17, PLUS)
	EQUALS(Z0, Z18, ZERO)
	VPSRLW  $4, Z0, Z2
	VPANDQ  Z21, Z2, Z2
	VPSHUFB Z2, Z25, Z2
	VPSHUFB Z0, Z24, Z3
	VPANDQ  Z2, Z3, Z2
	VPTESTMB Z21, Z2, K1
	KMOVQ   K1, ALONE(DI)
	VPTESTMB Z18, Z2, K1
	KMOVQ   K1, HEX(DI)
	EQUALS(Z0, Z20, U)
	VPMOVB2M Z0, K1
	KMOVQ   K1, HIGH(DI)
	ADDQ $64, SI
	ADDQ $8, DI
	DECQ CX
	JNZ  block
	VZEROUPPER
	RET

// APPEND appends the bits of a row where a token begins (R15) to the bits of the tokens before (CX of them), at DX. R12
// is the complement of CX. It uses AX and BX.
#define APPEND(row, off) \
	MOVQ  row(SI), AX     \
	PEXTQ R15, AX, AX     \
	SHLXQ CX, AX, BX      \
	ORQ   BX, off(DX)     \
	SHRQ  $1, AX          \
	SHRXQ R12, AX, AX     \
	MOVQ  AX, (off+64)(DX)

// func indexMarksWide(m *blockMarks, n int, tokens *tokenWord, c *carry)
TEXT ·indexMarksWide(SB), NOSPLIT, $8-32
	MOVQ m+0(FP), SI
	MOVQ n+8(FP), CX
	LEAQ (SI)(CX*8), CX
	MOVQ CX, end-8(SP)
	MOVQ c+24(FP), AX
	MOVQ 0(AX), R9   // inside
	MOVQ 8(AX), R10  // token
	MOVQ 16(AX), R11 // skip
	MOVQ 24(AX), R13 // hex
	MOVQ 32(AX), R8  // wrong
	MOVQ 40(AX), DI  // escapes
	MOVQ 48(AX), CX  // tokens
	VPCMPEQB X8, X8, X8

block:
	// Escapes.
	MOVQ  ESCAPE(SI), AX
	ANDNQ AX, R11, DX
	LEAQ  (DX)(DX*1), R15
	MOVQ  $0xAAAAAAAAAAAAAAAA, BX
	ORQ   BX, R15
	SUBQ  DX, R15
	XORQ  BX, R15
	MOVQ  AX, DX
	ORQ   R11, DX
	XORQ  R15, DX // escaped
	ANDQ  AX, R15 // begins an escape
	MOVQ  R15, ESCAPE(SI)
	MOVQ  R15, R11
	SHRQ  $63, R11
	ORQ   R15, DI

	// What follows them.
	MOVQ  ALONE(SI), AX
	ANDNQ DX, AX, AX
	ORQ   AX, R8
	MOVQ  U(SI), AX
	ANDQ  DX, AX
	LEAQ  (AX)(AX*1), R14
	ORQ   AX, R14
	LEAQ  (R14*4), R15
	ORQ   R14, R15
	SHLQ  $1, R15
	ORQ   R13, R15 // the four behind each u
	MOVQ  HEX(SI), R14
	ANDNQ R15, R14, R15
	ORQ   R15, R8
	SHRQ  $60, AX
	MOVQ  AX, R14
	SHRQ  $1, R14
	ORQ   AX, R14
	MOVQ  R14, R13
	SHRQ  $2, R13
	ORQ   R14, R13

	// Strings.
	ANDNQ QUOTE(SI), DX, R14
	MOVQ  R14, QUOTE(SI)
	VMOVQ R14, X9
	VPCLMULQDQ $0, X8, X9, X9
	VMOVQ X9, R15
	XORQ  R9, R15 // inside, with the opening quote
	MOVQ  R15, R9
	SARQ  $63, R9

	// White space, control characters, and what else there is.
	MOVQ  WHITE(SI), DX
	ANDNQ DX, R15, AX
	ANDNQ CONTROL(SI), AX, AX
	ORQ   AX, R8
	MOVQ  SIGN(SI), AX
	ORQ   AX, DX
	ORQ   R14, DX
	ORQ   R15, DX
	NOTQ  DX
	MOVQ  DX, PLAIN(SI)

	// Where tokens begin: the first of numbers and words, signs outside, opening quotes.
	LEAQ  (R10)(DX*2), BX
	MOVQ  DX, R10
	SHRQ  $63, R10
	ANDNQ DX, BX, DX
	ANDNQ AX, R15, AX
	ANDQ  R14, R15
	ORQ   AX, R15
	ORQ   DX, R15
	MOVQ  R15, START(SI)

	// What they are.
	MOVQ  DX, AX
	MOVQ  CX, DX
	MOVQ  CX, R12
	NOTQ  R12
	ANDQ  $~63, DX
	ADDQ  tokens+16(FP), DX
	PEXTQ R15, AX, AX
	SHLXQ CX, AX, BX
	ORQ   BX, 40(DX)
	SHRQ  $1, AX
	SHRXQ R12, AX, AX
	MOVQ  AX, (40+64)(DX)
	APPEND(OPEN, 0)
	APPEND(CLOSE, 8)
	APPEND(LETTER, 16)
	APPEND(COLON, 24)
	APPEND(COMMA, 32)
	POPCNTQ R15, AX
	ADDQ  AX, CX
	ADDQ  $8, SI
	CMPQ  SI, end-8(SP)
	JLT   block

	MOVQ c+24(FP), AX
	MOVQ R9, 0(AX)
	MOVQ R10, 8(AX)
	MOVQ R11, 16(AX)
	MOVQ R13, 24(AX)
	MOVQ R8, 32(AX)
	MOVQ DI, 40(AX)
	MOVQ CX, 48(AX)
	RET

// PLACE writes where the lowest bit of DX stands and takes it off.
#define PLACE(off) \
	TZCNTQ DX, AX       \
	ADDL   R13, AX      \
	MOVL   AX, off(DI)  \
	BLSRQ  DX, DX

// func placeTokensWide(starts *uint64, n int, at *uint32, base uint32)
TEXT ·placeTokensWide(SB), NOSPLIT, $0-28
	MOVQ starts+0(FP), SI
	MOVQ n+8(FP), CX
	MOVQ at+16(FP), DI
	MOVL base+24(FP), R13

block:
	MOVQ (SI), DX
	POPCNTQ DX, BX
	LEAQ (DI)(BX*4), R8

more:
	PLACE(0)
	PLACE(4)
	PLACE(8)
	PLACE(12)
	PLACE(16)
	PLACE(20)
	PLACE(24)
	PLACE(28)
	ADDQ $32, DI
	TESTQ DX, DX
	JNZ  more

	MOVQ R8, DI
	ADDQ $8, SI
	ADDL $64, R13
	DECQ CX
	JNZ  block
	RET

DATA ·laneOf+0(SB)/8, $0x0000000100000000
DATA ·laneOf+8(SB)/8, $0x0000000300000002
DATA ·laneOf+16(SB)/8, $0x0000000500000004
DATA ·laneOf+24(SB)/8, $0x0000000700000006
DATA ·laneOf+32(SB)/8, $0x0000000900000008
DATA ·laneOf+40(SB)/8, $0x0000000b0000000a
DATA ·laneOf+48(SB)/8, $0x0000000d0000000c
DATA ·laneOf+56(SB)/8, $0x0000000f0000000e
GLOBL ·laneOf(SB), RODATA|NOPTR, $64
DATA ·sixteen+0(SB)/4, $16
GLOBL ·sixteen(SB), RODATA|NOPTR, $4

// PLACES writes those numbers of Z0 whose bits are set in the lowest 16 of AX, and goes on to the next.
#define PLACES \
	KMOVW      AX, K1          \
	VPCOMPRESSD.Z Z0, K1, Z2   \
	VMOVDQU32  Z2, (DI)        \
	MOVWLZX    AX, BX          \
	POPCNTL    BX, BX          \
	LEAQ       (DI)(BX*4), DI  \
	VPADDD     Z1, Z0, Z0      \
	SHRQ       $16, AX

// func placeTokensWider(starts *uint64, n int, at *uint32, base uint32)
TEXT ·placeTokensWider(SB), NOSPLIT, $0-28
	MOVQ starts+0(FP), SI
	MOVQ n+8(FP), CX
	MOVQ at+16(FP), DI
	MOVL base+24(FP), AX
	VPBROADCASTD AX, Z0
	VPADDD ·laneOf(SB), Z0, Z0
	VPBROADCASTD ·sixteen(SB), Z1

block:
	MOVQ (SI), AX
	PLACES
	PLACES
	PLACES
	PLACES
	ADDQ $8, SI
	DECQ CX
	JNZ  block
	VZEROUPPER
	RET

// func checkNumbersWide(m *blockMarks, n int) (wrong uint64)
//
// Four blocks at a time, and then those that lie 32 bytes on, four bytes of each word on.
TEXT ·checkNumbersWide(SB), NOSPLIT, $0-24
	MOVQ     m+0(FP), SI
	LEAQ     4(SI), DX
	VPXOR    Y15, Y15, Y15 // wrong
	VPCMPEQB Y13, Y13, Y13

pass:
	MOVQ     n+8(FP), CX

blocks:
	VMOVDQU  PLAIN(SI), Y0
	VPCMPEQD Y13, Y0, Y1
	VPOR     Y1, Y15, Y15
	VMOVDQU  BEFORE(SI), Y1
	VPSRLQ   $63, Y1, Y1
	VPADDQ   Y1, Y0, Y1
	VPAND    Y1, Y0, Y0  // p
	VPADDQ   Y0, Y0, Y1
	VPANDN   Y0, Y1, Y1  // begins
	VPAND    LETTER(SI), Y1, Y2 // words
	VPANDN   Y1, Y2, Y1  // begins
	VPADDQ   Y2, Y0, Y2
	VPAND    Y2, Y0, Y0  // p
	VPAND    DIGIT(SI), Y0, Y3 // digits
	VPAND    MINUS(SI), Y1, Y4 // minus
	VPADDQ   Y4, Y4, Y5
	VPANDN   Y5, Y3, Y14
	VPOR     Y14, Y15, Y15
	VPOR     Y5, Y1, Y5
	VPAND    Y5, Y3, Y5  // whole
	VPAND    ZERO(SI), Y5, Y6
	VPADDQ   Y6, Y6, Y6
	VPAND    Y6, Y3, Y6
	VPOR     Y6, Y15, Y15
	VPADDQ   Y3, Y5, Y6
	VPANDN   Y6, Y3, Y6  // behind
	VPAND    POINT(SI), Y6, Y7
	VPAND    Y0, Y7, Y7  // point
	VPADDQ   Y7, Y7, Y8  // fraction
	VPANDN   Y8, Y3, Y14
	VPOR     Y14, Y15, Y15
	VPADDQ   Y3, Y8, Y9
	VPANDN   Y9, Y3, Y9
	VPOR     Y9, Y6, Y9
	VPAND    E(SI), Y9, Y9
	VPAND    Y0, Y9, Y9  // e
	VPADDQ   Y9, Y9, Y10
	VMOVDQU  MINUS(SI), Y11
	VPOR     PLUS(SI), Y11, Y11
	VPAND    Y0, Y11, Y11
	VPAND    Y11, Y10, Y11 // sign
	VPANDN   Y10, Y11, Y10
	VPADDQ   Y11, Y11, Y12
	VPOR     Y12, Y10, Y10 // exponent
	VPANDN   Y10, Y3, Y14
	VPOR     Y14, Y15, Y15
	VPADDQ   Y3, Y3, Y14
	VPANDN   Y3, Y14, Y14
	VPOR     Y5, Y8, Y8
	VPOR     Y10, Y8, Y8
	VPANDN   Y14, Y8, Y14
	VPOR     Y14, Y15, Y15
	VPOR     Y3, Y4, Y4
	VPOR     Y7, Y4, Y4
	VPOR     Y9, Y4, Y4
	VPOR     Y11, Y4, Y4
	VPANDN   Y0, Y4, Y4
	VPOR     Y4, Y15, Y15
	ADDQ     $32, SI
	SUBQ     $4, CX
	JGT      blocks

	MOVQ     DX, SI
	XORQ     DX, DX
	TESTQ    SI, SI
	JNZ      pass

	XORQ     AX, AX
	VPTEST   Y15, Y15
	SETNE    AX
	MOVQ     AX, wrong+16(FP)
	VZEROUPPER
	RET

// func extractWide(mask, a, b, c, d uint64) (w, x, y, z uint64)
TEXT ·extractWide(SB), NOSPLIT, $0-72
	MOVQ  mask+0(FP), AX
	MOVQ  a+8(FP), BX
	MOVQ  b+16(FP), CX
	MOVQ  c+24(FP), DX
	MOVQ  d+32(FP), SI
	PEXTQ AX, BX, BX
	PEXTQ AX, CX, CX
	PEXTQ AX, DX, DX
	PEXTQ AX, SI, SI
	MOVQ  BX, w+40(FP)
	MOVQ  CX, x+48(FP)
	MOVQ  DX, y+56(FP)
	MOVQ  SI, z+64(FP)
	RET

// func betweenWide(w, mask uint64) (between uint64)
TEXT ·betweenWide(SB), NOSPLIT, $0-24
	MOVQ  w+0(FP), AX
	PDEPQ mask+8(FP), AX, AX
	VMOVQ AX, X0
	VPCMPEQB X1, X1, X1
	VPCLMULQDQ $0, X1, X0, X0
	VMOVQ X0, between+16(FP)
	RET

// func checkBlocksWide(p unsafe.Pointer, blocks *shapeBlock, n int) (bad uint64)
TEXT ·checkBlocksWide(SB), NOSPLIT, $0-32
	MOVQ  p+0(FP), SI
	MOVQ  blocks+8(FP), DI
	MOVQ  n+16(FP), CX
	VPXOR Y3, Y3, Y3

block:
	VMOVDQU (SI), Y0
	VPXOR   (DI), Y0, Y0
	VPADDB  32(DI), Y0, Y1
	VPSUBB  64(DI), Y0, Y2
	VPOR    Y0, Y1, Y1
	VPOR    Y2, Y1, Y1
	VPAND   96(DI), Y1, Y1
	VPOR    Y1, Y3, Y3
	ADDQ    $32, SI
	ADDQ    $128, DI
	DECQ    CX
	JNZ     block

	XORQ   AX, AX
	VPTEST Y3, Y3
	SETNE  AX
	MOVQ   AX, bad+24(FP)
	VZEROUPPER
	RET

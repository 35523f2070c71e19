// Weights of players against each other, and points at which polynomials are integrated exactly.
#pragma once
#include <cmath>
#include <vector>

namespace dreher {

// weight(a, b) = (a-1)! b! / (a+b)!, the share of one of `a` players against `b`.
class Weights {
 public:
  explicit Weights(int most) : most_(most), w_((most + 1) * (most + 1), 0.0) {
    for (int a = 1; a <= most; ++a) {
      double w = 1.0 / a;  // b = 0: (a-1)! / a!
      for (int b = 0; a + b <= most; ++b) {
        w_[a * (most_ + 1) + b] = w;
        w *= (b + 1.0) / (a + b + 1.0);
      }
    }
  }
  double operator()(int a, int b) const { return w_[a * (most_ + 1) + b]; }

 private:
  int most_;
  std::vector<double> w_;
};

// Gauss-Legendre points and weights on [0, 1], by Newton's method on the Legendre polynomial.
struct Quadrature {
  std::vector<double> t, w;
  explicit Quadrature(int points) : t(points), w(points) {
    for (int i = 0; i < points; ++i) {
      double x = std::cos(M_PI * (i + 0.75) / (points + 0.5)), slope = 1;
      for (int step = 0; step < 100; ++step) {
        double p = 1, before = 0;
        for (int k = 1; k <= points; ++k) {
          const double next = ((2 * k - 1) * x * p - (k - 1) * before) / k;
          before = p;
          p = next;
        }
        slope = points * (x * p - before) / (x * x - 1);
        const double by = p / slope;
        x -= by;
        if (std::fabs(by) < 1e-16) break;
      }
      t[i] = (x + 1) / 2;
      w[i] = 1 / ((1 - x * x) * slope * slope);
    }
  }
};

// Points that integrate a polynomial of so many players' factors exactly: half as many, made even.
inline int points_for(int players) { return players <= 2 ? 2 : (players + 3) / 4 * 2; }

}  // namespace dreher
